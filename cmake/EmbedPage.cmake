# SPDX-License-Identifier: MIT
# Writes the page's files into one C++ source: cmake -DFROM=FOLDER -DINTO=FILE -P EmbedPage.cmake
set(out "// Made from src/plot/page.\n#include \"plot/page_files.h\"\n\nnamespace lucid::page {\n\n")
foreach(file IN ITEMS page.html page.css waves.js page.js profile.html profile.css profile.js)
  file(READ ${FROM}/${file} text HEX)
  string(REGEX REPLACE "([0-9a-f][0-9a-f])" "0x\\1," bytes "${text}")
  string(REPLACE "." "_" name ${file})
  string(APPEND out "static const unsigned char bytes_of_${name}[] = {${bytes}};\n"
    "const std::string_view ${name}(reinterpret_cast<const char*>(bytes_of_${name}), sizeof bytes_of_${name});\n\n")
endforeach()
string(APPEND out "}  // namespace lucid::page\n")
file(WRITE ${INTO} "${out}")
