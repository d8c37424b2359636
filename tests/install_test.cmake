# cmake -DBUILD=<build folder> -DSOURCE=<source folder> -DWORK=<folder to use> -P install_test.cmake
# Installs Bay Swap and builds the examples against what was installed: through CMake, and through pkg-config.
function(must)
  execute_process(COMMAND ${ARGN} RESULT_VARIABLE code OUTPUT_VARIABLE out ERROR_VARIABLE out)
  if(NOT code EQUAL 0)
    message(FATAL_ERROR "${ARGN}: ${code}\n${out}")
  endif()
  set(output "${out}" PARENT_SCOPE)
endfunction()

file(REMOVE_RECURSE "${WORK}")
must(${CMAKE_COMMAND} --install "${BUILD}" --prefix "${WORK}/prefix")
must(${CMAKE_COMMAND} -G Ninja -S "${SOURCE}/examples" -B "${WORK}/examples" -DCMAKE_PREFIX_PATH=${WORK}/prefix
     -DCMAKE_BUILD_TYPE=Release)
must(${CMAKE_COMMAND} --build "${WORK}/examples")

must("${WORK}/prefix/bin/bayswap" demo --out "${WORK}/world")
must("${WORK}/examples/which_save" "${WORK}/world/bench/dumps/N99P.sra")
if(NOT output MATCHES "battery save, n64.sram")
  message(FATAL_ERROR "which_save said: ${output}")
endif()
must("${WORK}/examples/split_save" "${WORK}/world/quay-tv/saves/Lantern Skiff (Europe).srm" "${WORK}/parts")
if(NOT EXISTS "${WORK}/parts/save.mpk")
  message(FATAL_ERROR "split_save said: ${output}")
endif()
must("${WORK}/examples/plan_a_carry" "Lantern Skiff" "${WORK}/world/home/bays/bench.toml" "${WORK}/world/home/bays/quay-tv.toml")
if(NOT output MATCHES "place: .*Lantern Skiff \\(Europe\\).srm")
  message(FATAL_ERROR "plan_a_carry said: ${output}")
endif()
must("${WORK}/examples/copy_card" "${WORK}/world/clubroom/cards/saltglass.card" "${WORK}/fresh.card")
if(NOT output MATCHES "copied  BESLPS-99001IDA \\(certain\\)" OR NOT output MATCHES "MAREK \\(certain, deleted\\)")
  message(FATAL_ERROR "copy_card said: ${output}")
endif()

file(GLOB_RECURSE pc "${WORK}/prefix/*/bayswap.pc")
get_filename_component(pc_folder "${pc}" DIRECTORY)
must(${CMAKE_COMMAND} -E env "PKG_CONFIG_PATH=${pc_folder}" sh -c
     "g++ -std=c++20 '${SOURCE}/examples/which_save.cpp' -o '${WORK}/by_pkg_config' -Wl,-rpath,${pc_folder}/.. $(pkg-config --cflags --libs bayswap)")
must("${WORK}/by_pkg_config" "${WORK}/world/bench/flat-battery.sra")
