// What the parts of the search share.
#pragma once

#include <bayswap/value_search.hpp>

#include <map>

namespace bayswap::searching {

/// The versions that are looked through.
struct Field {
  std::vector<ByteView> bytes;
  std::size_t size = 0;
  std::size_t changed = 0;  // bytes that are not the same in all

  [[nodiscard]] std::size_t count() const { return bytes.size(); }
  [[nodiscard]] Byte byte(std::size_t version, std::size_t at) const { return bytes[version][at]; }
  [[nodiscard]] std::uint64_t number(std::size_t version, std::size_t at, std::size_t count, bool big) const {
    std::uint64_t value = 0;
    const Byte* from = bytes[version].data() + at;
    for (std::size_t i = 0; i < count; ++i) value |= std::uint64_t{from[i]} << 8 * (big ? count - 1 - i : i);
    return value;
  }
};

/// Collects what agrees; of several readings of one place the plainest stays.
class Finds {
 public:
  explicit Finds(std::size_t max);
  void add(ValueFind find);
  [[nodiscard]] std::vector<ValueFind> take();

 private:
  std::size_t max_;
  std::vector<ValueFind> finds_;
};

/// Numbers, all times `per`, as they are, and in every way of storing them that is known.
void search_numbers(const Field& field, const std::vector<std::int64_t>& values, std::int64_t per,
                    Finds& finds);
/// Texts in ASCII, in two bytes a character, and in letters that begin anywhere.
void search_texts(const Field& field, const std::vector<std::string>& texts, Finds& finds);

}  // namespace bayswap::searching
