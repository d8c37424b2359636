# cmake "-DFILES=<files .toml>" -DOUT=<file.cpp> -DFUNCTION=<name> -P EmbedToml.cmake
set(ids "")
foreach(file IN LISTS FILES)
  get_filename_component(id "${file}" NAME)
  string(REGEX REPLACE "\\.toml$" "" id "${id}")
  get_filename_component(folder "${file}" DIRECTORY)
  list(APPEND ids "${id}")
endforeach()
list(SORT ids)  # without the extension: '-' sorts before '.'
set(rows "")
foreach(id IN LISTS ids)
  file(READ "${folder}/${id}.toml" text)
  string(APPEND rows "    {\"${id}\", R\"TOML(${text})TOML\"},\n")
endforeach()
file(WRITE "${OUT}.new" "// Written by the build from data/.
#include \"base/built_in.hpp\"

namespace bayswap {
namespace {
constexpr BuiltInText rows[] = {
${rows}};
}  // namespace

std::span<const BuiltInText> ${FUNCTION}() { return rows; }

}  // namespace bayswap
")
execute_process(COMMAND ${CMAKE_COMMAND} -E copy_if_different "${OUT}.new" "${OUT}")
file(REMOVE "${OUT}.new")
