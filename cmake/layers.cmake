# SPDX-License-Identifier: Apache-2.0
# corvak_layer(NAME SOURCES ... [LAYERS ...] [PRIVATE ...]): a static library corvak_NAME with the
# public headers include/corvak/NAME, allowed to include only its own layer and those it names.

function(corvak_warnings target)
  target_compile_options(${target} PRIVATE -Wall -Wextra -Wpedantic -Wconversion -Wshadow
    -Wstrict-prototypes -Wmissing-prototypes -Werror)
endfunction()

function(corvak_layer name)
  cmake_parse_arguments(arg "" "" "SOURCES;LAYERS;PRIVATE" ${ARGN})
  set(target corvak_${name})
  add_library(${target} STATIC ${arg_SOURCES})
  add_library(corvak::${name} ALIAS ${target})
  set_target_properties(${target} PROPERTIES EXPORT_NAME ${name} OUTPUT_NAME corvak_${name})
  # Only this layer's headers are reachable: a folder of links to include/corvak/NAME.
  set(view ${CMAKE_BINARY_DIR}/include-view/${name})
  file(MAKE_DIRECTORY ${view}/corvak)
  file(CREATE_LINK ${PROJECT_SOURCE_DIR}/include/corvak/${name} ${view}/corvak/${name} SYMBOLIC)
  target_include_directories(${target} PUBLIC
    $<BUILD_INTERFACE:${view}> $<INSTALL_INTERFACE:${CMAKE_INSTALL_INCLUDEDIR}>)
  foreach(layer IN LISTS arg_LAYERS)
    target_link_libraries(${target} PUBLIC corvak_${layer})
  endforeach()
  target_link_libraries(${target} PRIVATE ${arg_PRIVATE})
  if(NOT CORVAK_CORE_ONLY)
    target_link_libraries(${target} PUBLIC m)
  endif()
  corvak_warnings(${target})
  set_property(GLOBAL APPEND PROPERTY CORVAK_LAYERS ${target})
endfunction()
