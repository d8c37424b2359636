# Compiles the sources of a target in groups: the headers of a group are read, and what they instantiate is made, once. A group has up to
# BAYSWAP_GROUP_SIZE files of one room, in the order in which the target lists them, so that a new file re-makes one room at most.
# File-local names must differ within a room for that. Sources outside the source tree, and those without precompiled headers, stay alone.
option(BAYSWAP_GROUPED "Compile files in groups: half the time for the whole tree, more after a change to one file" OFF)
set(BAYSWAP_GROUP_SIZE 16 CACHE STRING "Files in a group")
mark_as_advanced(BAYSWAP_GROUP_SIZE)

function(bayswap_compile_in_groups target)
  if(NOT BAYSWAP_GROUPED)
    return()
  endif()
  # A format string is checked by the compiler where each file is compiled alone and by clang-tidy, in both for every call; once more here
  # would cost a tenth of the time. The same goes for -Wshadow (../CMakeLists.txt), which would look at the names of other files.
  target_compile_definitions(${target} PRIVATE FMT_CONSTEVAL=)
  get_target_property(sources ${target} SOURCES)
  foreach(source IN LISTS sources)
    get_source_file_property(alone ${source} SKIP_PRECOMPILE_HEADERS)
    if(alone OR NOT source MATCHES "\\.cpp$" OR IS_ABSOLUTE ${source})
      continue()
    endif()
    get_filename_component(room ${source} DIRECTORY)
    # The kinds of cards each have a namespace of the medium's own terms, which their two or three files use whole.
    if(source MATCHES "^card/(dc|gc|n64|pce|ps1|ps2|sat|scd)[_.]")
      set(room card_${CMAKE_MATCH_1})
    endif()
    string(MAKE_C_IDENTIFIER "room_${room}" room)
    math(EXPR ${room} "${${room}} + 1")
    math(EXPR group "(${${room}} - 1) / ${BAYSWAP_GROUP_SIZE}")
    set_source_files_properties(${source} PROPERTIES UNITY_GROUP ${room}_${group})
  endforeach()
  set_target_properties(${target} PROPERTIES UNITY_BUILD ON UNITY_BUILD_MODE GROUP)
endfunction()
