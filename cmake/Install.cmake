# Two components, and two Debian packages: the tool, and the library for programs that use it.
include(CMakePackageConfigHelpers)
set(docs ${CMAKE_INSTALL_DATADIR}/doc/nuvrat)
install(TARGETS nuvrat_tool RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR} COMPONENT tool)
# Packed, as a Debian package has them.
find_program(GZIP gzip REQUIRED)
function(nuvrat_packed to from)
  add_custom_command(OUTPUT ${to} COMMAND ${GZIP} -9nc ${from} > ${to} DEPENDS ${from} VERBATIM)
  set_property(GLOBAL APPEND PROPERTY nuvrat_packed ${to})
endfunction()
file(MAKE_DIRECTORY ${PROJECT_BINARY_DIR}/man)
file(GLOB pages CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/docs/man/*.1)
foreach(page ${pages})
  get_filename_component(name ${page} NAME)
  nuvrat_packed(${PROJECT_BINARY_DIR}/man/${name}.gz ${page})
endforeach()
string(TIMESTAMP NUVRAT_DEBIAN_DATE "%a, %d %b %Y %H:%M:%S +0000" UTC)
configure_file(cmake/changelog.in changelog @ONLY)
nuvrat_packed(${PROJECT_BINARY_DIR}/changelog.gz ${PROJECT_BINARY_DIR}/changelog)
get_property(packed GLOBAL PROPERTY nuvrat_packed)
add_custom_target(nuvrat_packed_files ALL DEPENDS ${packed})
install(DIRECTORY ${PROJECT_BINARY_DIR}/man/ DESTINATION ${CMAKE_INSTALL_MANDIR}/man1 COMPONENT tool)
install(FILES ${PROJECT_BINARY_DIR}/changelog.gz DESTINATION ${docs} COMPONENT tool)
install(FILES cmake/copyright DESTINATION ${docs} COMPONENT tool)
install(FILES tools/nuvrat/completion.bash RENAME nuvrat
  DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions COMPONENT tool)
install(FILES tools/nuvrat/completion.zsh RENAME _nuvrat
  DESTINATION ${CMAKE_INSTALL_DATADIR}/zsh/vendor-completions COMPONENT tool)
install(FILES tools/nuvrat/completion.fish RENAME nuvrat.fish
  DESTINATION ${CMAKE_INSTALL_DATADIR}/fish/vendor_completions.d COMPONENT tool)
install(DIRECTORY docs/guides ${NUVRAT_WHOLE_SCHEMAS} docs/formats DESTINATION ${docs} COMPONENT tool)
install(FILES README.md CHANGELOG.md docs/safety.md docs/proof.md
  DESTINATION ${docs} COMPONENT tool)
set(library_docs ${CMAKE_INSTALL_DATADIR}/doc/libnuvrat-dev)
install(FILES docs/api.md ${PROJECT_BINARY_DIR}/changelog.gz DESTINATION ${library_docs} COMPONENT library)
install(FILES cmake/copyright DESTINATION ${library_docs} COMPONENT library)

install(TARGETS nuvrat EXPORT NuvratTargets
  ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT library
  LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT library)
install(DIRECTORY include/nuvrat DESTINATION ${CMAKE_INSTALL_INCLUDEDIR} COMPONENT library)
set(where ${CMAKE_INSTALL_LIBDIR}/cmake/Nuvrat)
install(EXPORT NuvratTargets NAMESPACE Nuvrat:: DESTINATION ${where} COMPONENT library)
get_target_property(NUVRAT_LIBRARY_TYPE nuvrat TYPE)
set(NUVRAT_PC_REQUIRES Requires.private)
set(NUVRAT_PC_LIBS "")
if(NUVRAT_LIBRARY_TYPE STREQUAL STATIC_LIBRARY)
  set(NUVRAT_PC_REQUIRES Requires)
  set(NUVRAT_PC_LIBS "-ldate-tz -pthread")
endif()
configure_package_config_file(cmake/NuvratConfig.cmake.in NuvratConfig.cmake
  INSTALL_DESTINATION ${where})
write_basic_package_version_file(NuvratConfigVersion.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/NuvratConfig.cmake
  ${CMAKE_CURRENT_BINARY_DIR}/NuvratConfigVersion.cmake DESTINATION ${where} COMPONENT library)
# It says where things are from where it lies itself: what is installed can be moved.
file(RELATIVE_PATH NUVRAT_PC_PREFIX /prefix/${CMAKE_INSTALL_LIBDIR}/pkgconfig /prefix)
string(REGEX REPLACE "/$" "" NUVRAT_PC_PREFIX "${NUVRAT_PC_PREFIX}")
configure_file(cmake/nuvrat.pc.in nuvrat.pc @ONLY)
install(FILES ${PROJECT_BINARY_DIR}/nuvrat.pc
  DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig COMPONENT library)

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME nuvrat)
set(CPACK_PACKAGE_VENDOR Nuvrat)
set(CPACK_PACKAGE_CONTACT "Nuvrat's developers <developers@nuvrat.invalid>")
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
set(CPACK_COMPONENTS_ALL tool library)
set(CPACK_COMPONENTS_GROUPING IGNORE)
set(CPACK_DEB_COMPONENT_INSTALL ON)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
set(CPACK_DEBIAN_TOOL_PACKAGE_NAME nuvrat)
set(CPACK_DEBIAN_TOOL_PACKAGE_SECTION admin)
set(CPACK_DEBIAN_TOOL_PACKAGE_DEPENDS tzdata)
set(CPACK_COMPONENT_TOOL_DESCRIPTION "Rewrites a disk's structures in place and loses nothing
 Partition tables from MBR to GPT and back, primary to logical and back, FAT
 volumes to NTFS: proved file by file, with a way back.")
set(CPACK_DEBIAN_LIBRARY_PACKAGE_NAME libnuvrat-dev)
set(CPACK_DEBIAN_LIBRARY_PACKAGE_SECTION libdevel)
set(CPACK_DEBIAN_LIBRARY_PACKAGE_DEPENDS "libfmt-dev, zlib1g-dev, libssl-dev,\
 libicu-dev, libhowardhinnant-date-dev, libxxhash-dev, libzstd-dev, libhivex-dev, libnbd-dev")
set(CPACK_COMPONENT_LIBRARY_DESCRIPTION "Library behind nuvrat, for programs that use it
 Headers, static library, CMake package and pkg-config file.")
include(CPack)
