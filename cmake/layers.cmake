# SPDX-License-Identifier: Apache-2.0
# corvak_layer(NAME [SOURCES ...] [LAYERS ...] [PRIVATE ...]): a static library corvak_NAME with the
# public headers include/corvak/NAME, allowed to include only its own layer and those it names.
#
# corvak_room(LAYER ROOM [SEES ...] SOURCES ...): a folder of a layer, whose files may include only
# their own room and those that it sees, as "ROOM/header.h"; so the arrows of docs/architecture.md
# are checked by the build, between layers and within them.

function(corvak_warnings target)
  target_compile_options(${target} PRIVATE -Wall -Wextra -Wpedantic -Wconversion -Wshadow
    -Wstrict-prototypes -Wmissing-prototypes -Werror)
endfunction()

# What a target links, and its rooms compile with.
function(corvak_uses target)
  target_link_libraries(${target} PRIVATE ${ARGN})
  set_property(TARGET ${target} APPEND PROPERTY CORVAK_USES ${ARGN})
endfunction()

function(corvak_layer name)
  cmake_parse_arguments(arg "" "" "SOURCES;LAYERS;PRIVATE" ${ARGN})
  set(target corvak_${name})
  add_library(${target} STATIC ${arg_SOURCES})
  add_library(corvak::${name} ALIAS ${target})
  set_target_properties(${target} PROPERTIES EXPORT_NAME ${name} OUTPUT_NAME corvak_${name}
    ARCHIVE_OUTPUT_DIRECTORY ${PROJECT_BINARY_DIR} LINKER_LANGUAGE C)
  # Only this layer's headers are reachable: a folder of links to include/corvak/NAME.
  set(view ${PROJECT_BINARY_DIR}/include-view/${name})
  file(MAKE_DIRECTORY ${view}/corvak)
  file(CREATE_LINK ${PROJECT_SOURCE_DIR}/include/corvak/${name} ${view}/corvak/${name} SYMBOLIC)
  target_include_directories(${target} PUBLIC
    $<BUILD_INTERFACE:${view}> $<INSTALL_INTERFACE:${CMAKE_INSTALL_INCLUDEDIR}>)
  foreach(layer IN LISTS arg_LAYERS)
    target_link_libraries(${target} PUBLIC corvak_${layer})
    set_property(TARGET ${target} APPEND PROPERTY CORVAK_USES corvak_${layer})
  endforeach()
  corvak_uses(${target} ${arg_PRIVATE})
  if(NOT CORVAK_CORE_ONLY)
    target_link_libraries(${target} PUBLIC m)
  endif()
  corvak_warnings(${target})
  set_property(GLOBAL APPEND PROPERTY CORVAK_LAYERS ${target})
endfunction()

function(corvak_room layer room)
  cmake_parse_arguments(arg "" "" "SEES;SOURCES" ${ARGN})
  set(owner corvak_${layer})
  if(layer STREQUAL cli)
    set(owner corvak)
  endif()
  set(target corvak_${layer}_${room})
  list(TRANSFORM arg_SOURCES PREPEND ${CMAKE_CURRENT_SOURCE_DIR}/${room}/)
  add_library(${target} OBJECT ${arg_SOURCES})
  # Only the rooms that it sees are reachable: a folder of links to them.
  set(view ${PROJECT_BINARY_DIR}/room-view/${layer}/${room})
  file(REMOVE_RECURSE ${view})
  file(MAKE_DIRECTORY ${view})
  foreach(seen IN LISTS arg_SEES)
    file(CREATE_LINK ${CMAKE_CURRENT_SOURCE_DIR}/${seen} ${view}/${seen} SYMBOLIC)
  endforeach()
  target_include_directories(${target} PRIVATE ${view} $<TARGET_PROPERTY:${owner},INCLUDE_DIRECTORIES>)
  target_compile_definitions(${target} PRIVATE $<TARGET_PROPERTY:${owner},COMPILE_DEFINITIONS>)
  target_compile_options(${target} PRIVATE $<TARGET_PROPERTY:${owner},COMPILE_OPTIONS>)
  get_property(uses TARGET ${owner} PROPERTY CORVAK_USES)
  target_link_libraries(${target} PRIVATE ${uses})
  target_sources(${owner} PRIVATE $<TARGET_OBJECTS:${target}>)
endfunction()
