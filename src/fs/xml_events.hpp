// XML from servers, piece by piece, over expat: no document types, no entities of their own, bounded texts.
#pragma once

#include <bayswap/base.hpp>

#include <string>
#include <string_view>

namespace bayswap {

/// Is called for each tag. A name is its namespace, a space, and the tag: "DAV: href".
class XmlEvents {
 public:
  virtual ~XmlEvents() = default;
  /// Both return false to end the reading.
  [[nodiscard]] virtual bool start(std::string_view name) = 0;
  /// `text`: what was between the tags, after the last one that started or ended.
  [[nodiscard]] virtual bool end(std::string_view name, const std::string& text) = 0;
};
/// Returns whether it is XML to its end, and was not ended early.
[[nodiscard]] bool read_xml(ByteView xml, XmlEvents& events);

}  // namespace bayswap
