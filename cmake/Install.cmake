# SPDX-License-Identifier: MIT
# What is installed: the library, its public headers, the CMake package, the pkg-config file, the
# demonstration. (The program: apps/lucid.)
include(CMakePackageConfigHelpers)

install(TARGETS lucid EXPORT LucidLoopTargets
        LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR} ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR})
install(TARGETS lucid_plot EXPORT LucidLoopPlotTargets
        LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR} ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR})
install(EXPORT LucidLoopPlotTargets NAMESPACE LucidLoop::
        DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/LucidLoop)
install(DIRECTORY include/lucid DESTINATION ${CMAKE_INSTALL_INCLUDEDIR})
install(EXPORT LucidLoopTargets NAMESPACE LucidLoop::
        DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/LucidLoop)
configure_package_config_file(cmake/LucidLoopConfig.cmake.in LucidLoopConfig.cmake
        INSTALL_DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/LucidLoop)
write_basic_package_version_file(LucidLoopConfigVersion.cmake COMPATIBILITY SameMinorVersion)
if(LUCID_TRANSLATOR)
  set(translator_libs "-lasmjit -lrt -lpthread ")
else()
  set(translator_libs "")
endif()
# From where it lies, wherever that is installed.
file(RELATIVE_PATH prefix_from_pc ${CMAKE_INSTALL_FULL_LIBDIR}/pkgconfig ${CMAKE_INSTALL_PREFIX})
configure_file(cmake/lucid-loop.pc.in lucid-loop.pc @ONLY)
install(FILES ${PROJECT_BINARY_DIR}/LucidLoopConfig.cmake
              ${PROJECT_BINARY_DIR}/LucidLoopConfigVersion.cmake
        DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/LucidLoop)
install(FILES ${PROJECT_BINARY_DIR}/lucid-loop.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig)
install(DIRECTORY firmware/kiln DESTINATION ${CMAKE_INSTALL_DATADIR}/lucid-loop)
# For firmware that is to be tested: -I PREFIX/share/lucid/firmware
install(DIRECTORY firmware/lucid DESTINATION ${CMAKE_INSTALL_DATADIR}/lucid/firmware)
install(FILES LICENSE DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/lucid-loop RENAME copyright)
install(FILES CHANGELOG.md DESTINATION ${CMAKE_INSTALL_DATADIR}/doc/lucid-loop)
