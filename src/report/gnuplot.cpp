#include "report/gnuplot.hpp"

#include <fmt/format.h>

#include "pace/program.hpp"
#include "zavrek/error.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {
namespace {

using pace::internal::Program;

constexpr double longest_s = 120;  // that a figure or a page may take

}  // namespace
}  // namespace zavrek::report

namespace zavrek::report::internal {

std::string quoted(const std::string& text) {
  std::string out = "'";
  for (const char c : text) {
    const bool control = static_cast<unsigned char>(c) < ' ' || c == '\x7f';
    if (c == '\'')
      out += R"('."'".')";  // doubled it would end a text that it begins
    else
      out += control ? ' ' : c;
  }
  return out + "'";
}

void require_figure(const std::filesystem::path& path, std::size_t samples) {
  if (path.extension() != ".png" && path.extension() != ".svg") {
    throw Error(fmt::format("\"{}\" is no figure; name a .png or an .svg file", path.string()));
  }
  if (samples < 2) throw Error("the record has fewer than two samples; there is nothing to draw");
  if (path.has_parent_path()) std::filesystem::create_directories(path.parent_path());
}

namespace {

Program started_gnuplot() try {
  return Program({"gnuplot", "-"}, {.fed = true, .errors_shown = true});
} catch (const Error& e) {
  throw Error(fmt::format("{}; is the package gnuplot-nox installed?", e.what()));
}

}  // namespace

void run_gnuplot(const std::string& script, const std::filesystem::path& path) {
  Program gnuplot = started_gnuplot();
  const bool fed = gnuplot.feed(script, longest_s), ended = gnuplot.wait(fed ? longest_s : 1);
  if (fed && ended && gnuplot.exit_status() == 0) return;
  throw Error(fmt::format("gnuplot did not draw \"{}\" ({}); is the folder writable?", path.string(),
                          ended ? gnuplot.ended() : "it did not come to an end"));
}

std::string terminal(const std::filesystem::path& path, double height) {
  return fmt::format(
      "set terminal {} size 1280,{:.0f} font 'DejaVu Sans,11' background '#ffffff'\nset output {}\n",
      path.extension() == ".svg" ? "svg" : "pngcairo", height,
      quoted(std::filesystem::absolute(path).string()));  // "|x" alone would be a pipe, "~" somebody's home
}

}  // namespace zavrek::report::internal

namespace zavrek::report {
namespace {

/// As an address: letters, digits and what may stand in a path as they are, the rest by its bytes.
std::string address_of(const std::filesystem::path& path) {
  std::string address = "file://";
  for (const char c : std::filesystem::absolute(path).string()) {
    const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                       std::string_view("/-._~").find(c) != std::string_view::npos;
    address += plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<unsigned char>(c));
  }
  return address;
}

bool ended_well(const std::vector<std::string>& words) {
  try {
    Program program(words, {});
    return program.wait(longest_s) && program.exit_status() == 0;
  } catch (const Error&) {
    return false;  // the next one may be there
  }
}

}  // namespace

void print_page(const std::filesystem::path& page, const std::filesystem::path& pdf) {
  std::filesystem::remove(pdf);
  const std::string from = address_of(page);
  const std::string to = "--print-to-pdf=" + std::filesystem::absolute(pdf).string();
  for (const char* browser : {"chromium", "chromium-browser"}) {
    if (ended_well(
            {browser, "--headless", "--no-sandbox", "--disable-gpu", "--no-pdf-header-footer", to, from}) &&
        std::filesystem::exists(pdf))
      return;
  }
  throw Error(fmt::format(
      "\"{}\" was not printed; is the package chromium installed and the folder writable?", pdf.string()));
}

}  // namespace zavrek::report
