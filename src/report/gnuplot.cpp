#include "report/gnuplot.hpp"

#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdio>

#include <fmt/format.h>

#include "zavrek/error.hpp"
#include "zavrek/report.hpp"

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

/// Runs a program and waits; its exit status, or -1.
static int run_program(std::vector<std::string> words) {
  std::vector<char*> arguments;
  for (std::string& word : words) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  posix_spawn_file_actions_t quiet;
  posix_spawn_file_actions_init(&quiet);
  posix_spawn_file_actions_addopen(&quiet, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
  posix_spawn_file_actions_addopen(&quiet, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
  pid_t child = -1;
  const int error = posix_spawnp(&child, arguments[0], &quiet, nullptr, arguments.data(), environ);
  posix_spawn_file_actions_destroy(&quiet);
  int status = -1;
  if (error != 0 || waitpid(child, &status, 0) != child) return -1;
  return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

std::string terminal(const std::filesystem::path& path, double height) {
  return fmt::format(
      "set terminal {} size 1280,{:.0f} font 'DejaVu Sans,11' background '#ffffff'\nset output {}\n",
      path.extension() == ".svg" ? "svg" : "pngcairo", height, quoted(path.string()));
}

}  // namespace zavrek::report::internal

namespace zavrek::report {

void print_page(const std::filesystem::path& page, const std::filesystem::path& pdf) {
  std::filesystem::remove(pdf);
  const std::string from = "file://" + std::filesystem::absolute(page).string();
  const std::string to = "--print-to-pdf=" + std::filesystem::absolute(pdf).string();
  for (const char* browser : {"chromium", "chromium-browser"}) {
    const int status = internal::run_program(
        {browser, "--headless", "--no-sandbox", "--disable-gpu", "--no-pdf-header-footer", to, from});
    if (status == 0 && std::filesystem::exists(pdf)) return;
  }
  throw Error(fmt::format(
      "\"{}\" was not printed; is the package chromium installed and the folder writable?", pdf.string()));
}

}  // namespace zavrek::report
