// Containers: what pieces they have, and one of them exchanged. A new kind is one file, with one of these
// tables in it.
#pragma once

#include <bayswap/envelope.hpp>

namespace bayswap {

struct Container {
  EnvelopeStep::Kind kind{};
  /// Empty if it is none.
  std::vector<ContainerItem> (*items)(const Blob& bytes) = nullptr;
  /// The item's bytes, unpacked.
  Result<Blob> (*read)(const Blob& bytes, const ContainerItem& item, std::size_t max_bytes) = nullptr;
  /// The container with other bytes for that item.
  Result<Blob> (*replace)(const Blob& bytes, const ContainerItem& item, const Blob& inside) = nullptr;
};

extern const Container zip_container;
extern const Container png_container;
extern const Container chunk_container;

/// The chunks in one form; empty if they do not fit.
[[nodiscard]] std::vector<ContainerItem> chunks_in_form(ByteView bytes, const ChunkForm& form);

/// A chunk of a PNG picture, with its length and CRC.
[[nodiscard]] Blob png_chunk(std::string_view name, ByteView data);

/// `bytes` with `count` of them from `at` on exchanged for others.
[[nodiscard]] Blob spliced(ByteView bytes, std::size_t at, std::size_t count, ByteView inside);

}  // namespace bayswap
