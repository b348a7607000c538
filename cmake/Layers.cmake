# SPDX-License-Identifier: MIT
# What nearly every file includes, and nobody here changes: read once for all layers.
set(lucid_heavy_headers <algorithm> <array> <cstdint> <deque> <functional> <map> <memory> <optional>
    <set> <string> <string_view> <tuple> <unordered_map> <utility> <variant> <vector>
    <fmt/format.h> <tl/expected.hpp>)

# lucid_layer(FOLDER DEPENDS ...): an object library lucid_FOLDER (`_` for each `/`) from the sources
# in src/FOLDER.
#
# Its headers are linked one by one into a folder of the build tree and found as "FOLDER/x.h". A
# target sees only the folders of the layers it depends on, so an include against the order of the
# layers does not compile. The property LUCID_LAYERS of the project has them all.
function(lucid_layer folder)
  cmake_parse_arguments(ARG "" "" "DEPENDS" ${ARGN})
  string(REPLACE / _ name ${folder})
  file(GLOB sources CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/src/${folder}/*.cpp)
  file(GLOB headers CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/src/${folder}/*.h
       ${PROJECT_SOURCE_DIR}/src/${folder}/*.def)
  set(root ${PROJECT_BINARY_DIR}/layers/${name})
  file(REMOVE_RECURSE ${root})
  file(MAKE_DIRECTORY ${root}/${folder})
  foreach(header IN LISTS headers)
    get_filename_component(file ${header} NAME)
    file(CREATE_LINK ${header} ${root}/${folder}/${file} SYMBOLIC)
  endforeach()
  if(sources)
    add_library(lucid_${name} OBJECT ${sources})
    target_include_directories(lucid_${name} PUBLIC ${root} ${PROJECT_SOURCE_DIR}/include)
    target_link_libraries(lucid_${name} PUBLIC tl::expected ${ARG_DEPENDS} PRIVATE lucid_options)
    if(name STREQUAL base)
      target_precompile_headers(lucid_base PRIVATE ${lucid_heavy_headers})
    else()
      target_precompile_headers(lucid_${name} REUSE_FROM lucid_base)
    endif()
    set_property(GLOBAL APPEND PROPERTY LUCID_LAYERS lucid_${name})
  else()
    add_library(lucid_${name} INTERFACE)
    target_include_directories(lucid_${name} INTERFACE ${root} ${PROJECT_SOURCE_DIR}/include)
    target_link_libraries(lucid_${name} INTERFACE tl::expected ${ARG_DEPENDS})
  endif()
endfunction()
