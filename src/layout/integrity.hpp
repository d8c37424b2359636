// Checksums over a file's plain bytes, or a layer of a state.
#pragma once

#include <bayswap/layout.hpp>

namespace bayswap {

[[nodiscard]] std::optional<IntegrityField::Kind> integrity_from_text(std::string_view word);
/// How many bytes the checksum has.
[[nodiscard]] std::size_t width_of(IntegrityField::Kind kind);
/// The checksum as it should be; empty where the field does not lie within the layer.
[[nodiscard]] std::vector<Byte> value_of(const IntegrityField& field, ByteView layer);
/// The checksum of a layout as it lies in a file of that size.
[[nodiscard]] IntegrityField placed(const Layout& layout, const Field& field, std::size_t file_bytes);
[[nodiscard]] bool is_right(const IntegrityField& field, ByteView layer);
/// Every checksum at the layer's head or end that is right in all of the layers and covers `covered` of each.
[[nodiscard]] std::vector<IntegrityField> find_integrity(const std::vector<Blob>& layers,
                                                         const std::vector<std::size_t>& covered);

}  // namespace bayswap
