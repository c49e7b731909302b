# What Debian wants of a package beside what is installed: compressed pages, a changelog, who may copy it. CPack runs it
# ahead of making the package.
set(root ${CPACK_TEMPORARY_INSTALL_DIRECTORY}${CPACK_PACKAGING_INSTALL_PREFIX})
set(doc ${root}/share/doc/zavrek)
file(MAKE_DIRECTORY ${doc})
string(TIMESTAMP today "%a, %d %b %Y %H:%M:%S +0000" UTC)
file(WRITE ${doc}/changelog "zavrek (${CPACK_PACKAGE_VERSION}) unstable; urgency=medium

  * As built from its tree.

 -- ${CPACK_PACKAGE_CONTACT}  ${today}
")
set(copyright "Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/
Upstream-Name: zavrek

Files: *
Copyright: 2026 the authors of Zavrek
License: own
 All rights reserved by its authors.
")
file(GLOB parts ${CMAKE_CURRENT_LIST_DIR}/../third_party/*)
foreach(part ${parts})
  get_filename_component(name ${part} NAME)
  file(GLOB texts ${part}/LICENSE*)
  foreach(text ${texts})
    file(READ ${text} words)
    if(words MATCHES "Apache License")
      set(words "Licensed under the Apache License 2.0, /usr/share/common-licenses/Apache-2.0.\n")
    endif()
    string(REGEX REPLACE "\r" "" words "${words}")
    string(REGEX REPLACE "\n[ \t]*\n" "\n.\n" words "${words}")
    string(REGEX REPLACE "\n([^\n])" "\n \\1" words "\n${words}")
    string(APPEND copyright "\nComment: within the pages of the tool, ${name}:${words}")
  endforeach()
endforeach()
file(WRITE ${doc}/copyright "${copyright}")
file(GLOB pages ${root}/share/man/man1/*.1)
execute_process(COMMAND gzip -9nf ${doc}/changelog ${pages} COMMAND_ERROR_IS_FATAL ANY)
