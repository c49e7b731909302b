#include "report/gnuplot.hpp"

#include <algorithm>
#include <fstream>
#include <iterator>

#include <fmt/format.h>
#include <unistd.h>

#include "pace/program.hpp"
#include "record/file_beside.hpp"
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

/// Whether a file has these letters in its last bytes: a full disk leaves one without.
bool ends_with(const std::filesystem::path& file, std::string_view letters) {
  std::ifstream in(file, std::ios::binary | std::ios::ate);
  const std::streamoff size = in.tellg();
  constexpr std::streamoff tail = 64;
  in.seekg(std::max<std::streamoff>(0, size - tail));
  const std::string last{std::istreambuf_iterator<char>(in), {}};
  return last.find(letters) != std::string::npos;
}

}  // namespace

void run_gnuplot(const std::string& script, const std::filesystem::path& path) {
  record::internal::FileBeside file(path);
  const std::size_t second = script.find('\n') + 1;
  // "|x" alone would be a pipe, "~" somebody's home.
  const std::string output =
      fmt::format("set output {}\n", quoted(std::filesystem::absolute(file.path()).string()));
  Program gnuplot = started_gnuplot();
  const bool fed = gnuplot.feed(script.substr(0, second) + output + script.substr(second), longest_s),
             ended = gnuplot.wait(fed ? longest_s : 1);
  if (fed && ended && gnuplot.exit_status() == 0 &&
      ends_with(file.path(), path.extension() == ".svg" ? "</svg>" : "IEND"))
    return file.move_in();
  throw Error(fmt::format("gnuplot did not draw \"{}\" ({}); is the folder writable?", path.string(),
                          ended ? gnuplot.ended() : "it did not come to an end"));
}

std::string terminal(const std::filesystem::path& path, double height) {
  return fmt::format("set terminal {} size 1280,{:.0f} font 'DejaVu Sans,11' background '#ffffff'\n",
                     path.extension() == ".svg" ? "svg" : "pngcairo", height);
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
  record::internal::FileBeside file(pdf);
  std::vector<std::string> words{"chromium",
                                 "--headless",
                                 "--disable-gpu",
                                 "--no-pdf-header-footer",
                                 "--print-to-pdf=" + std::filesystem::absolute(file.path()).string(),
                                 address_of(page)};
  // A page holds names of others: the browser keeps its sandbox but for root, whom it refuses with one.
  if (::geteuid() == 0) words.insert(words.begin() + 1, "--no-sandbox");
  for (const char* browser : {"chromium", "chromium-browser"}) {
    words[0] = browser;
    if (ended_well(words) && internal::ends_with(file.path(), "%%EOF")) return file.move_in();
  }
  throw Error(fmt::format(
      "\"{}\" was not printed; is the package chromium installed and the folder writable?", pdf.string()));
}

}  // namespace zavrek::report
