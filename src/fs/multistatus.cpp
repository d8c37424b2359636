#include "fs/multistatus.hpp"

#include <expat.h>

#include <charconv>
#include <memory>

namespace bayswap {
namespace {

constexpr std::size_t max_resources = 200000;
constexpr std::size_t max_text = 65536;
constexpr char separator = ' ';

class Reader {
 public:
  explicit Reader(XML_Parser parser) : parser_(parser) {
    XML_SetUserData(parser, this);
    XML_SetElementHandler(parser, &Reader::start, &Reader::end);
    XML_SetCharacterDataHandler(parser, &Reader::characters);
    // No entities, no expansion.
    XML_SetStartDoctypeDeclHandler(parser, [](void* user, const XML_Char*, const XML_Char*, const XML_Char*,
                                              int) { static_cast<Reader*>(user)->stop(); });
  }

  std::vector<DavResource> resources;
  bool is_multistatus = false;
  bool is_stopped = false;

 private:
  void stop() {
    is_stopped = true;
    XML_StopParser(parser_, XML_FALSE);
  }

  // "DAV: href"; other servers' own properties are of no use here.
  static std::string_view own(const XML_Char* name) {
    constexpr std::string_view space = "DAV: ";
    const std::string_view text(name);
    return text.starts_with(space) ? text.substr(space.size()) : std::string_view();
  }

  static void start(void* user, const XML_Char* name, const XML_Char** /*attributes*/) {
    auto& self = *static_cast<Reader*>(user);
    const std::string_view what = own(name);
    self.text_.clear();
    if (what == "multistatus") self.is_multistatus = true;
    if (what == "response") {
      if (self.resources.size() == max_resources) return self.stop();
      self.resources.emplace_back();
      self.is_inside_ = true;
    }
    if (what == "propstat") self.pending_ = {};
    if (what == "collection") self.pending_.is_folder = true;
  }

  static void end(void* user, const XML_Char* name) {
    auto& self = *static_cast<Reader*>(user);
    const std::string_view what = own(name);
    if (what == "response") self.is_inside_ = false;
    if (!self.is_inside_) return;
    DavResource& one = self.resources.back();
    if (what == "href" && one.href.empty()) one.href = self.text_;
    if (what == "getcontentlength")
      (void)std::from_chars(self.text_.data(), self.text_.data() + self.text_.size(),
                            self.pending_.size_bytes);
    if (what == "getlastmodified") self.pending_.modified = self.text_;
    if (what == "getetag") self.pending_.tag = self.text_;
    if (what == "status") self.is_found_ = self.text_.find(" 200") != std::string::npos;
    // Properties that are not there stand in a propstat of their own.
    if (what == "propstat" && self.is_found_) {
      one.is_folder = self.pending_.is_folder;
      one.size_bytes = self.pending_.size_bytes;
      one.modified = self.pending_.modified;
      one.tag = self.pending_.tag;
    }
    self.text_.clear();
  }

  static void characters(void* user, const XML_Char* text, int size) {
    auto& self = *static_cast<Reader*>(user);
    if (self.text_.size() + static_cast<std::size_t>(size) > max_text) return self.stop();
    self.text_.append(text, static_cast<std::size_t>(size));
  }

  XML_Parser parser_;
  std::string text_;
  DavResource pending_;
  bool is_inside_ = false;
  bool is_found_ = false;
};

}  // namespace

Result<std::vector<DavResource>> multistatus_from(ByteView xml) {
  const std::unique_ptr<XML_ParserStruct, decltype(&XML_ParserFree)> parser(
      XML_ParserCreateNS(nullptr, separator), &XML_ParserFree);
  if (!parser) return fail(ErrorCode::io, "there is no memory to read the server's answer");
  Reader reader(parser.get());
  constexpr std::size_t piece = std::size_t{1} << 20;
  bool good = true;
  for (std::size_t at = 0; good && (at < xml.size() || at == 0); at += piece) {
    const ByteView part = xml.subspan(at, std::min(piece, xml.size() - at));
    good = XML_Parse(parser.get(), reinterpret_cast<const char*>(part.data()), static_cast<int>(part.size()),
                     at + piece >= xml.size() ? 1 : 0) == XML_STATUS_OK;
  }
  if (!good || reader.is_stopped || !reader.is_multistatus)
    return fail(ErrorCode::damaged, "the server's list of files can't be read",
                "see that the URL is that of a WebDAV folder");
  return std::move(reader.resources);
}

}  // namespace bayswap
