# SPDX-License-Identifier: MIT
# lucid_layer(NAME DIR [AS PREFIX] DEPENDS ...): an object library lucid_NAME from the sources in DIR.
#
# Its headers are linked one by one into a folder of the build tree and found as "NAME/x.h" (or
# "PREFIX/x.h"). A target sees only the folders of the layers it depends on, so an include against
# the order of the layers does not compile.
function(lucid_layer name dir)
  cmake_parse_arguments(ARG "" "AS" "DEPENDS" ${ARGN})
  if(NOT ARG_AS)
    set(ARG_AS ${name})
  endif()
  file(GLOB sources CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/${dir}/*.cpp)
  file(GLOB headers CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/${dir}/*.h
       ${PROJECT_SOURCE_DIR}/${dir}/*.def)
  set(root ${PROJECT_BINARY_DIR}/layers/${name})
  file(REMOVE_RECURSE ${root})
  file(MAKE_DIRECTORY ${root}/${ARG_AS})
  foreach(header IN LISTS headers)
    get_filename_component(file ${header} NAME)
    file(CREATE_LINK ${header} ${root}/${ARG_AS}/${file} SYMBOLIC)
  endforeach()
  add_library(lucid_${name} OBJECT ${sources})
  target_include_directories(lucid_${name} PUBLIC ${root} ${PROJECT_SOURCE_DIR}/include)
  target_link_libraries(lucid_${name} PUBLIC tl::expected ${ARG_DEPENDS} PRIVATE lucid_options)
endfunction()
