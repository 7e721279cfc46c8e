include(CMakePackageConfigHelpers)
install(TARGETS nuvrat EXPORT NuvratTargets
  ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR} LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR})
install(TARGETS nuvrat_tool RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR})
install(DIRECTORY include/nuvrat DESTINATION ${CMAKE_INSTALL_INCLUDEDIR})
set(where ${CMAKE_INSTALL_LIBDIR}/cmake/Nuvrat)
install(EXPORT NuvratTargets NAMESPACE Nuvrat:: DESTINATION ${where})
configure_package_config_file(cmake/NuvratConfig.cmake.in NuvratConfig.cmake
  INSTALL_DESTINATION ${where})
write_basic_package_version_file(NuvratConfigVersion.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/NuvratConfig.cmake
  ${CMAKE_CURRENT_BINARY_DIR}/NuvratConfigVersion.cmake DESTINATION ${where})
