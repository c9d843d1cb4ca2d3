# SPDX-License-Identifier: Apache-2.0
# Protocol Buffers by nanopb: corvak.pb.h and corvak.pb.c are made of src/link/corvak.proto. The
# library comes from Debian; for a microcontroller it is compiled from its source, whose folder
# CORVAK_NANOPB_SOURCE names (scripts/nanopb-source.sh fetches it). Without it the core is built
# alone.
set(CORVAK_NANOPB_SOURCE "" CACHE PATH "Folder of nanopb's source, for a cross build")

set(CORVAK_NANOPB ON)
if(CORVAK_CORE_ONLY AND NOT EXISTS "${CORVAK_NANOPB_SOURCE}/pb_encode.c")
  set(CORVAK_NANOPB OFF)
  message(STATUS "the link is left out: CORVAK_NANOPB_SOURCE names no source of nanopb")
  return()
endif()

set(corvak_generated ${CMAKE_BINARY_DIR}/generated)
set(corvak_messages_dir ${corvak_generated}/corvak/link)
set(corvak_messages ${corvak_messages_dir}/corvak.pb.c)
file(MAKE_DIRECTORY ${corvak_messages_dir})
if(CORVAK_CORE_ONLY)
  add_library(nanopb STATIC ${CORVAK_NANOPB_SOURCE}/pb_common.c ${CORVAK_NANOPB_SOURCE}/pb_decode.c
    ${CORVAK_NANOPB_SOURCE}/pb_encode.c)
  target_include_directories(nanopb SYSTEM PUBLIC ${CORVAK_NANOPB_SOURCE})
  set(corvak_nanopb_library nanopb)
else()
  find_package(nanopb REQUIRED)
  set(corvak_nanopb_library nanopb::protobuf-nanopb-static)
endif()

function(corvak_use_messages target)
  target_include_directories(${target} SYSTEM PUBLIC $<BUILD_INTERFACE:${corvak_generated}>)
  target_link_libraries(${target} PUBLIC ${corvak_nanopb_library})
endfunction()
