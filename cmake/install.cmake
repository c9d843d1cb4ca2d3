# SPDX-License-Identifier: Apache-2.0
# Install: libraries, headers, the command, a CMake package and a pkg-config file.
include(CMakePackageConfigHelpers)
get_property(layers GLOBAL PROPERTY CORVAK_LAYERS)

install(TARGETS ${layers} EXPORT corvak ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR})
install(TARGETS corvak RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR})
install(DIRECTORY include/corvak DESTINATION ${CMAKE_INSTALL_INCLUDEDIR})
set(package_dir ${CMAKE_INSTALL_LIBDIR}/cmake/corvak)
install(EXPORT corvak NAMESPACE corvak:: DESTINATION ${package_dir} FILE corvak-targets.cmake)
configure_package_config_file(cmake/corvak-config.cmake.in
  ${CMAKE_BINARY_DIR}/corvak-config.cmake INSTALL_DESTINATION ${package_dir})
write_basic_package_version_file(${CMAKE_BINARY_DIR}/corvak-config-version.cmake
  COMPATIBILITY SameMinorVersion)
configure_file(cmake/corvak.pc.in ${CMAKE_BINARY_DIR}/corvak.pc @ONLY)
install(FILES ${CMAKE_BINARY_DIR}/corvak-config.cmake
  ${CMAKE_BINARY_DIR}/corvak-config-version.cmake DESTINATION ${package_dir})
install(FILES ${CMAKE_BINARY_DIR}/corvak.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig)
