#include "report/gnuplot.hpp"

#include <sys/wait.h>

#include <cstdio>

#include <fmt/format.h>

#include "zavrek/error.hpp"

namespace zavrek::report::internal {

std::string quoted(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    out += c == '\n' ? ' ' : c;
  }
  return out + "\"";
}

void require_figure(const std::filesystem::path& path, std::size_t samples) {
  if (path.extension() != ".png" && path.extension() != ".svg") {
    throw Error(fmt::format("\"{}\" is no figure; name a .png or an .svg file", path.string()));
  }
  if (samples < 2) throw Error("the record has fewer than two samples; there is nothing to draw");
  if (path.has_parent_path()) std::filesystem::create_directories(path.parent_path());
}

void run_gnuplot(const std::string& script, const std::filesystem::path& path) {
  FILE* gnuplot = popen("gnuplot 2>&1 >/dev/null", "w");
  if (!gnuplot) throw Error("gnuplot could not be started");
  const bool written = fwrite(script.data(), 1, script.size(), gnuplot) == script.size();
  const int status = pclose(gnuplot);
  if (!written || status != 0) {
    throw Error(fmt::format(
        "gnuplot did not draw \"{}\" (status {}); is gnuplot-nox installed and the folder writable?",
        path.string(), WIFEXITED(status) ? WEXITSTATUS(status) : status));
  }
}

std::string terminal(const std::filesystem::path& path, double height) {
  return fmt::format(
      "set terminal {} size 1280,{:.0f} font 'DejaVu Sans,11' background '#ffffff'\nset output {}\n",
      path.extension() == ".svg" ? "svg" : "pngcairo", height, quoted(path.string()));
}

}  // namespace zavrek::report::internal
