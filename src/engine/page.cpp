#include "engine/page.hpp"

#include "engine/resources.hpp"
#include "report/resources.hpp"

namespace zavrek::engine::internal {

std::string page() {
  std::string text =
      "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" "
      "content=\"width=device-width\"><link rel=\"icon\" href=\"data:,\"><title>Zavrek</title>\n<style>\n";
  text += report::internal::uplot_css;
  text += live_css;
  text += "</style></head>\n";
  text += live_html;
  text += "<script>\n";
  text += report::internal::uplot_js;
  text += "</script>\n<script>\n";
  text += live_js;
  text += "</script></body></html>\n";
  return text;
}

}  // namespace zavrek::engine::internal
