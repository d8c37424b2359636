// Run while building: takes the glyphs we need out of a font in hexadecimal text form ("0041:0000...") and
// writes them as C++.
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <string>

#include <iconv.h>

namespace {

// Kanji that the consoles' Shift-JIS has.
bool in_shift_jis(iconv_t converter, unsigned code) {
  char in[4] = {static_cast<char>(code >> 8), static_cast<char>(code & 0xff), 0, 0};
  char out[8];
  char* from = in;
  char* to = out;
  std::size_t in_left = 2;
  std::size_t out_left = sizeof out;
  iconv(converter, nullptr, nullptr, nullptr, nullptr);
  return iconv(converter, &from, &in_left, &to, &out_left) != static_cast<std::size_t>(-1);
}

bool is_wanted(iconv_t converter, unsigned code) {
  if (code >= 0x20 && code < 0x250) return code < 0x7f || code >= 0xa0;
  if (code >= 0x2010 && code < 0x2680) return in_shift_jis(converter, code) || code < 0x2070;
  if (code >= 0x3000 && code < 0x3100) return true;
  if (code >= 0xff00 && code < 0xffa0) return true;
  if (code == 0xfffd) return true;
  return code >= 0x4e00 && code < 0xa000 && in_shift_jis(converter, code);
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 3) return 2;
  std::ifstream in(argv[1]);
  std::ofstream out(argv[2]);
  iconv_t converter = iconv_open("SHIFT_JIS", "UTF-16BE");
  if (!in || !out || converter == reinterpret_cast<iconv_t>(-1)) return 1;
  out << "#include \"picture/font.hpp\"\nnamespace bayswap {\nconst Glyph font_glyphs[] = {\n";
  unsigned count = 0;
  std::string line;
  while (std::getline(in, line)) {
    const std::size_t colon = line.find(':');
    if (colon == std::string::npos) continue;
    const auto code = static_cast<unsigned>(std::strtoul(line.c_str(), nullptr, 16));
    const std::string bits = line.substr(colon + 1);
    if ((bits.size() != 32 && bits.size() != 64) || !is_wanted(converter, code)) continue;
    out << "{" << code << "," << (bits.size() == 64 ? 1 : 0) << ",{";
    for (std::size_t i = 0; i < bits.size(); i += 2) out << "0x" << bits.substr(i, 2) << ",";
    out << "}},\n";
    ++count;
  }
  out << "};\nconst unsigned font_glyph_count = " << count << ";\n}\n";
  iconv_close(converter);
  return count > 6000 && out.flush() ? 0 : 1;
}
