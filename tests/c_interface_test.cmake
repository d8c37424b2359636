# cmake -DPROGRAM=<c_interface> -DTOOL=<bayswap> -DWORK=<folder to use> -P c_interface_test.cmake
file(REMOVE_RECURSE "${WORK}")
file(MAKE_DIRECTORY "${WORK}")
execute_process(COMMAND "${PROGRAM}" "${TOOL}" "${WORK}" RESULT_VARIABLE code)
if(NOT code EQUAL 0)
  message(FATAL_ERROR "c_interface ended with ${code}")
endif()
