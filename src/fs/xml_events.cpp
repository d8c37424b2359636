#include "fs/xml_events.hpp"

#include <expat.h>

#include <algorithm>
#include <memory>

namespace bayswap {
namespace {

constexpr std::size_t max_text = 65536;
constexpr int max_depth = 32;
constexpr std::size_t max_token = 65536;
constexpr char separator = ' ';

struct Reading {
  XML_Parser parser;
  XmlEvents* events;
  std::string text;
  bool is_stopped = false;
  int depth = 0;

  void stop() {
    is_stopped = true;
    XML_StopParser(parser, XML_FALSE);
  }
  static void start(void* user, const XML_Char* name, const XML_Char** /*attributes*/) {
    auto& self = *static_cast<Reading*>(user);
    self.text.clear();
    if (++self.depth > max_depth) return self.stop();
    if (!self.events->start(name)) self.stop();
  }
  static void end(void* user, const XML_Char* name) {
    auto& self = *static_cast<Reading*>(user);
    --self.depth;
    if (!self.events->end(name, self.text)) self.stop();
    self.text.clear();
  }
  static void characters(void* user, const XML_Char* text, int size) {
    auto& self = *static_cast<Reading*>(user);
    if (self.text.size() + static_cast<std::size_t>(size) > max_text) return self.stop();
    self.text.append(text, static_cast<std::size_t>(size));
  }
  static void document_type(void* user, const XML_Char* /*name*/, const XML_Char* /*system*/,
                            const XML_Char* /*other*/, int /*has_own*/) {
    static_cast<Reading*>(user)->stop();
  }
};

}  // namespace

bool read_xml(ByteView xml, XmlEvents& events) {
  const std::unique_ptr<XML_ParserStruct, decltype(&XML_ParserFree)> parser(
      XML_ParserCreateNS(nullptr, separator), &XML_ParserFree);
  if (!parser) return false;
  Reading reading{parser.get(), &events, {}};
  XML_SetUserData(parser.get(), &reading);
  XML_SetElementHandler(parser.get(), &Reading::start, &Reading::end);
  XML_SetCharacterDataHandler(parser.get(), &Reading::characters);
  XML_SetStartDoctypeDeclHandler(parser.get(), &Reading::document_type);
  constexpr std::size_t piece = 16384;
  bool good = true;
  for (std::size_t at = 0; good && (at < xml.size() || at == 0); at += piece) {
    const ByteView part = xml.subspan(at, std::min(piece, xml.size() - at));
    good = XML_Parse(parser.get(), reinterpret_cast<const char*>(part.data()), static_cast<int>(part.size()),
                     at + piece >= xml.size() ? 1 : 0) == XML_STATUS_OK;
    // A token that does not end would be read from its beginning again with each piece.
    const auto done = static_cast<std::size_t>(std::max<XML_Index>(XML_GetCurrentByteIndex(parser.get()), 0));
    good = good && (at + part.size() >= xml.size() ||
                    at + part.size() - std::min(done, at + part.size()) <= max_token);
  }
  return good && !reading.is_stopped;
}

}  // namespace bayswap
