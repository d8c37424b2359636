# cmake -DIN=<folder of .toml> -DOUT=<file.cpp> -P EmbedLayouts.cmake
file(GLOB ids RELATIVE "${IN}" "${IN}/*.toml")
list(TRANSFORM ids REPLACE "\\.toml$" "")
list(SORT ids)  # without the extension: '-' sorts before '.'
set(rows "")
foreach(id IN LISTS ids)
  file(READ "${IN}/${id}.toml" text)
  string(APPEND rows "    {\"${id}\", R\"TOML(${text})TOML\"},\n")
endforeach()
file(WRITE "${OUT}.new" "// Written by the build from data/layouts.
#include \"layout/built_in.hpp\"

namespace bayswap {
namespace {
constexpr BuiltInLayout rows[] = {
${rows}};
}  // namespace

std::span<const BuiltInLayout> built_in_layouts() { return rows; }

}  // namespace bayswap
")
execute_process(COMMAND ${CMAKE_COMMAND} -E copy_if_different "${OUT}.new" "${OUT}")
file(REMOVE "${OUT}.new")
