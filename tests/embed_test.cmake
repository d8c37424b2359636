# cmake -DSOURCE=<source folder> -DWORK=<folder to use> -P embed_test.cmake
# Bay Swap inside of another project: its core alone, and then the whole library, are built without the tool, pictures, a font or
# anything that touches disks, a program of the host links it, and nothing of Bay Swap is installed with the host.
function(must)
  execute_process(COMMAND ${ARGN} RESULT_VARIABLE code OUTPUT_VARIABLE out ERROR_VARIABLE out)
  if(NOT code EQUAL 0)
    message(FATAL_ERROR "${ARGN}: ${code}\n${out}")
  endif()
  set(output "${out}" PARENT_SCOPE)
endfunction()

file(REMOVE_RECURSE "${WORK}")
file(WRITE "${WORK}/host/main.cpp" "#include <bayswap/card.hpp>
#include <bayswap/layout.hpp>
#include <bayswap/title.hpp>

#include <iostream>

int main() {
  const bayswap::Catalog catalog;
  const bayswap::Blob save = bayswap::Blob::filled(32768, 0x5a);
  const auto told = bayswap::recognise(catalog, save);
  std::cout << told.matches.size() << ' ' << bayswap::make_card(bayswap::CardKind::ps1)->image().size() << '\\n';
  return told.matches.empty() ? 1 : 0;
}
")
file(WRITE "${WORK}/host/CMakeLists.txt" "cmake_minimum_required(VERSION 3.22)
project(Host LANGUAGES CXX)
# What a front end has not got.
foreach(package CLI11 PNG SQLite3 LibArchive nlohmann_json)
  set(CMAKE_DISABLE_FIND_PACKAGE_\${package} ON)
endforeach()
set(BAYSWAP_CORE_ONLY ON)
include(FetchContent)
FetchContent_Declare(bayswap SOURCE_DIR \"${SOURCE}\")
FetchContent_MakeAvailable(bayswap)
if(TARGET bayswap-cli OR TARGET embed_font OR TARGET core_tests)
  message(FATAL_ERROR \"more than the core was configured\")
endif()
add_executable(host main.cpp)
target_link_libraries(host PRIVATE bayswap::core)
install(TARGETS host)
")
# The whole library, without the tool: its core is compiled once, for a program that links the core alone as well.
file(READ "${WORK}/host/CMakeLists.txt" text)
string(REPLACE "set(BAYSWAP_CORE_ONLY ON)" "" text "${text}")
string(REPLACE "foreach(package CLI11 PNG SQLite3 LibArchive nlohmann_json)" "foreach(package CLI11 PNG nlohmann_json)" text "${text}")
string(APPEND text "add_executable(whole_host main.cpp)
target_link_libraries(whole_host PRIVATE bayswap::bayswap)
")
file(WRITE "${WORK}/whole/CMakeLists.txt" "${text}")
file(COPY "${WORK}/host/main.cpp" DESTINATION "${WORK}/whole")
# Without optimisation: it is to link and to run, and takes a third of the time. With the compiler that the release is not built with,
# which is the faster one as well.
set(options -G Ninja -DCMAKE_BUILD_TYPE=Debug -DCMAKE_CXX_FLAGS=-O0 -DBAYSWAP_GROUPED=ON)
find_program(CLANG clang++)
if(CLANG)
  list(APPEND options -DCMAKE_CXX_COMPILER=${CLANG})
endif()
must(${CMAKE_COMMAND} ${options} -S "${WORK}/whole" -B "${WORK}/whole_build")
must(${CMAKE_COMMAND} --build "${WORK}/whole_build")
must("${WORK}/whole_build/host")
must("${WORK}/whole_build/whole_host")
must(${CMAKE_COMMAND} --install "${WORK}/whole_build" --prefix "${WORK}/prefix")
file(GLOB_RECURSE installed RELATIVE "${WORK}/prefix" "${WORK}/prefix/*")
if(NOT installed STREQUAL "bin/host")
  message(FATAL_ERROR "installed into the host: ${installed}")
endif()
# The core alone, for a host that has none of the other packages: what it would compile is what was compiled above, with the same words.
must(${CMAKE_COMMAND} ${options} -S "${WORK}/host" -B "${WORK}/build")
function(core_commands build out)
  file(READ "${WORK}/${build}/compile_commands.json" json)
  string(JSON count LENGTH "${json}")
  math(EXPR last "${count} - 1")
  set(found "")
  foreach(i RANGE ${last})
    string(JSON command GET "${json}" ${i} command)
    if(command MATCHES "bayswap_core_objects")
      string(REPLACE "${WORK}/${build}" "" command "${command}")
      list(APPEND found "${command}")
    elseif(command MATCHES "bayswap_more_objects" AND "${WORK}/${build}" STREQUAL "${WORK}/build")
      message(FATAL_ERROR "more than the core would be compiled: ${command}")
    endif()
  endforeach()
  list(SORT found)
  set(${out} "${found}" PARENT_SCOPE)
endfunction()
core_commands(whole_build of_whole)
core_commands(build of_core)
list(LENGTH of_core files)
if(files LESS 10 OR NOT of_core STREQUAL of_whole)
  message(FATAL_ERROR "the core alone would be compiled in another way than as a part of the whole")
endif()
