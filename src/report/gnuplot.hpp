// What all figures share: the program that draws them, their frame and colours.
#pragma once

#include <cstddef>
#include <filesystem>
#include <string>

namespace zavrek::report::internal {

inline constexpr const char* colours[] = {"#b3412e", "#2f7d5b", "#2b5fa8", "#8a6d1d", "#6f4a8e", "#5b6770"};

/// Text as gnuplot takes it literally where `noenhanced` is said: in single quotes, in which nothing is
/// expanded; control characters become blanks. The only way in which names of others reach a script.
[[nodiscard]] std::string quoted(const std::string& text);
/// Throws Error unless `path` is a .png or an .svg and there are samples to draw; makes its folder.
void require_figure(const std::filesystem::path& path, std::size_t samples);
/// Draws what `script`, which begins with `terminal`, says. Throws Error when gnuplot is missing or refuses,
/// or when the figure is not whole.
void run_gnuplot(const std::string& script, const std::filesystem::path& path);
/// The first line of a script: 1280 wide, `height` pixels high.
[[nodiscard]] std::string terminal(const std::filesystem::path& path, double height);

inline constexpr const char* frame =
    "set grid lc rgb '#e3e6e8' lt 1\nset border 3 lc rgb '#5b6770'\nset tics nomirror\nset key outside "
    "right top noenhanced\nset lmargin 12\nset rmargin 18\n";

}  // namespace zavrek::report::internal
