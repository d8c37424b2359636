#include "fs/multistatus.hpp"

#include <charconv>

#include "fs/xml_events.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_resources = 200000;

class Multistatus final : public XmlEvents {
 public:
  std::vector<DavResource> resources;
  bool is_multistatus = false;

  bool start(std::string_view name) override {
    const std::string_view what = own(name);
    if (what == "multistatus") is_multistatus = true;
    if (what == "response") {
      if (resources.size() == max_resources) return false;
      resources.emplace_back();
      is_inside_ = true;
    }
    if (what == "propstat") pending_ = {};
    if (what == "collection") pending_.is_folder = true;
    return true;
  }

  bool end(std::string_view name, const std::string& text) override {
    const std::string_view what = own(name);
    if (what == "response") is_inside_ = false;
    if (!is_inside_) return true;
    DavResource& one = resources.back();
    if (what == "href" && one.href.empty()) one.href = text;
    if (what == "getcontentlength")
      (void)std::from_chars(text.data(), text.data() + text.size(), pending_.size_bytes);
    if (what == "getlastmodified") pending_.modified = text;
    if (what == "getetag") pending_.tag = text;
    if (what == "status") is_found_ = text.find(" 200") != std::string::npos;
    // Properties that are not there are in a propstat of their own.
    if (what == "propstat" && is_found_) {
      one.is_folder = pending_.is_folder;
      one.size_bytes = pending_.size_bytes;
      one.modified = pending_.modified;
      one.tag = pending_.tag;
    }
    return true;
  }

 private:
  // Other servers' own properties are of no use here.
  static std::string_view own(std::string_view name) {
    constexpr std::string_view space = "DAV: ";
    return name.starts_with(space) ? name.substr(space.size()) : std::string_view();
  }

  DavResource pending_;
  bool is_inside_ = false;
  bool is_found_ = false;
};

}  // namespace

Result<std::vector<DavResource>> multistatus_from(ByteView xml) {
  Multistatus all;
  if (!read_xml(xml, all) || !all.is_multistatus)
    return fail(ErrorCode::damaged, "the server's list of files can't be read",
                "see that the URL is that of a WebDAV folder");
  return std::move(all.resources);
}

}  // namespace bayswap
