# SPDX-License-Identifier: Apache-2.0
# Install: libraries, headers, the command, a CMake package and a pkg-config file.
include(CMakePackageConfigHelpers)
get_property(layers GLOBAL PROPERTY CORVAK_LAYERS)

install(TARGETS ${layers} EXPORT corvak ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR})
install(TARGETS corvak RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR})
install(DIRECTORY include/corvak DESTINATION ${CMAKE_INSTALL_INCLUDEDIR})
install(FILES ${corvak_messages_dir}/corvak.pb.h DESTINATION ${CMAKE_INSTALL_INCLUDEDIR}/corvak/link)
install(FILES src/link/corvak.proto DESTINATION ${CMAKE_INSTALL_DATADIR}/corvak)
set(package_dir ${CMAKE_INSTALL_LIBDIR}/cmake/corvak)
install(EXPORT corvak NAMESPACE corvak:: DESTINATION ${package_dir} FILE corvak-targets.cmake)
configure_package_config_file(cmake/corvak-config.cmake.in
  ${CMAKE_BINARY_DIR}/corvak-config.cmake INSTALL_DESTINATION ${package_dir})
write_basic_package_version_file(${CMAKE_BINARY_DIR}/corvak-config-version.cmake
  COMPATIBILITY SameMinorVersion)

# corvak.pc finds its prefix from where it lies, so that `cmake --install --prefix` may name any.
# The libraries are static: what they need is needed by every program that links them.
set(corvak_pc_requires "lapacke cminpack kissfft-float hdf5 yaml-0.1 gio-2.0 libserialport")
set(corvak_pc_libs "")
foreach(layer IN LISTS layers)
  string(PREPEND corvak_pc_libs "-l${layer} ") # a layer before those that it was built on
endforeach()
foreach(name LIBDIR INCLUDEDIR)
  string(TOLOWER ${name} lower)
  set(corvak_pc_${lower} "${CMAKE_INSTALL_${name}}")
  if(NOT IS_ABSOLUTE "${CMAKE_INSTALL_${name}}")
    set(corvak_pc_${lower} "\${prefix}/${CMAKE_INSTALL_${name}}")
  endif()
endforeach()
file(RELATIVE_PATH corvak_pc_to_prefix
  ${CMAKE_INSTALL_FULL_LIBDIR}/pkgconfig ${CMAKE_INSTALL_PREFIX})
configure_file(cmake/corvak.pc.in ${CMAKE_BINARY_DIR}/corvak.pc @ONLY)
install(FILES ${CMAKE_BINARY_DIR}/corvak-config.cmake
  ${CMAKE_BINARY_DIR}/corvak-config-version.cmake DESTINATION ${package_dir})
install(FILES ${CMAKE_BINARY_DIR}/corvak.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig)
