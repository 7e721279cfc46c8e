# A room is a folder under src/ and a CMake target. It sees the public headers and its own, and the
# private headers of the rooms it names after USES; nothing else is on its include path. A room that
# calls into one it does not name fails to link: its target NAME_alone is a shared object out of the
# room and what it names, with no undefined symbol allowed.

add_library(nuvrat_flags INTERFACE)
if(NUVRAT_STRICT)
  target_compile_options(nuvrat_flags INTERFACE
    -Wall -Wextra -Wpedantic -Wconversion -Wshadow -Werror
    # g++ 12 sees overlaps in std::string that cannot be (its bug 105651)
    $<$<CXX_COMPILER_ID:GNU>:-Wno-restrict>
    $<$<CXX_COMPILER_ID:Clang>:-Wreserved-identifier>)
endif()
# For what is built to be run once or to be looked at, and needn't be fast.
add_library(nuvrat_quick INTERFACE)
target_link_libraries(nuvrat_quick INTERFACE nuvrat_flags)
if(NOT CMAKE_BUILD_TYPE STREQUAL Debug)
  target_compile_options(nuvrat_quick INTERFACE -O1)
endif()
if(NUVRAT_SANITIZE)
  target_compile_options(nuvrat_flags INTERFACE -fsanitize=address,undefined
    -fno-sanitize-recover=all -fno-omit-frame-pointer)
  target_link_options(nuvrat_flags INTERFACE -fsanitize=address,undefined)
endif()

if(NUVRAT_FUZZ)
  target_compile_options(nuvrat_flags INTERFACE -fsanitize=fuzzer-no-link)
endif()

# COUNTED, a room that reads what a disk claims: with the tests built once more, so that the library calls back
# at every basic block (see tests/bounds/counting.h).
function(nuvrat_room name)
  cmake_parse_arguments(ROOM "COUNTED" "" "USES;PACKAGES;SOURCES" ${ARGN})
  set(target nuvrat_${name})
  set(builds ${target})
  if(ROOM_COUNTED AND NUVRAT_TESTS AND NOT NUVRAT_SANITIZE)
    list(APPEND builds ${target}_counted)
    set_property(GLOBAL APPEND PROPERTY nuvrat_counted ${target}_counted)
  endif()
  set(root ${PROJECT_BINARY_DIR}/rooms/${name})
  file(MAKE_DIRECTORY ${root})
  file(CREATE_LINK ${CMAKE_CURRENT_SOURCE_DIR}/${name} ${root}/${name} SYMBOLIC)
  set(roots ${root})
  set(closure ${name})
  foreach(used ${ROOM_USES})
    list(APPEND roots ${PROJECT_BINARY_DIR}/rooms/${used})
    get_property(more GLOBAL PROPERTY nuvrat_closure_${used})
    list(APPEND closure ${more})
  endforeach()
  foreach(build ${builds})
    add_library(${build} OBJECT ${ROOM_SOURCES})
    target_include_directories(${build} PUBLIC ${PROJECT_SOURCE_DIR}/include PRIVATE ${roots})
    target_link_libraries(${build} PUBLIC ${ROOM_PACKAGES} PRIVATE nuvrat_flags)
    # Of a shared library only the public headers are to be seen (NUVRAT_API).
    set_target_properties(${build} PROPERTIES CXX_VISIBILITY_PRESET hidden
      VISIBILITY_INLINES_HIDDEN ON)
  endforeach()
  if(NUVRAT_FUZZ AND NOT ROOM_COUNTED)
    # what a fuzzer spends its time in are the rooms that look at a disk
    target_compile_options(${target} PRIVATE -O0)
  endif()
  if(TARGET ${target}_counted)
    target_compile_options(${target}_counted PRIVATE -fsanitize-coverage=trace-pc -O1)
  endif()
  list(REMOVE_DUPLICATES closure)
  set_property(GLOBAL PROPERTY nuvrat_closure_${name} ${closure})
  set_property(GLOBAL APPEND PROPERTY nuvrat_rooms ${name})
  set_property(GLOBAL PROPERTY nuvrat_packages_${name} ${ROOM_PACKAGES})
  if(NUVRAT_TESTS AND NOT NUVRAT_SANITIZE)
    add_library(${target}_alone MODULE)
    foreach(part ${closure})
      target_sources(${target}_alone PRIVATE $<TARGET_OBJECTS:nuvrat_${part}>)
      get_property(packages GLOBAL PROPERTY nuvrat_packages_${part})
      target_link_libraries(${target}_alone PRIVATE ${packages})
    endforeach()
    set_target_properties(${target}_alone PROPERTIES LINKER_LANGUAGE CXX
      LIBRARY_OUTPUT_DIRECTORY ${PROJECT_BINARY_DIR}/rooms/alone)
    target_link_options(${target}_alone PRIVATE -Wl,--no-undefined)
  endif()
endfunction()
