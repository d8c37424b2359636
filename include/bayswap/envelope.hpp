// Envelopes: the compression, archives, pictures and chunks around a file's content. They are opened step by
// step and closed again around changed content, with everything else unchanged. Belongs to bayswap::core.
#pragma once

#include <bayswap/compression.hpp>
#include <bayswap/export.hpp>

#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The format of a sequence of chunks: each has a name, the length of its data, and the data.
struct ChunkForm {
  std::size_t from = 0;          // offset of the first one
  std::size_t name_bytes = 4;    // fixed length, padded with 00 or spaces
  std::size_t length_bytes = 4;  // a binary number; 6 decimal digits if `decimal`
  bool big_endian = false;
  bool length_first = false;  // the length comes before the name
  bool counts_head = false;   // the length includes name and length
  bool decimal = false;       // "NAME:000123:" as text
  std::size_t alignment = 1;  // data is padded to a multiple of it
  [[nodiscard]] bool operator==(const ChunkForm&) const = default;
};
/// Returns e.g. "name 4, length 4 little-endian, from 16".
[[nodiscard]] std::string to_text(const ChunkForm& form);

/// One step from the outside to the inside.
struct EnvelopeStep {
  enum class Kind {
    stream,     // a compressed stream
    zip_entry,  // a file in a zip archive
    png_chunk,  // a chunk of a PNG picture
    chunk       // of a sequence of chunks
  };
  Kind kind{};
  Compression compression = Compression::none;  // of a stream
  std::size_t at = 0;                           // offset of the stream in the layer around it
  std::string name;                             // of an entry or a chunk
  std::size_t index = 0;                        // counts those of that name, from 0
  ChunkForm form;                               // of a chunk
  [[nodiscard]] bool operator==(const EnvelopeStep&) const = default;
};
/// The steps from the file inwards; empty: the file itself.
using Envelope = std::vector<EnvelopeStep>;
/// Returns e.g. "gzip" or "png chunk stAt > zlib at 8"; "the file itself" if it is empty.
[[nodiscard]] std::string to_text(const Envelope& envelope);

struct EnvelopeLimits {
  std::size_t max_bytes = std::size_t{96} << 20;  // of all layers together
  std::size_t max_layers = 256;
  std::size_t max_depth = 4;
};

/// Returns the bytes inside. Fails with `damaged` if a step does not fit the file, `does_not_fit` if there
/// are more than `max_bytes`.
[[nodiscard]] Result<Blob> open_envelope(const Blob& file, const Envelope& envelope,
                                         std::size_t max_bytes = EnvelopeLimits{}.max_bytes);
/// Returns the file with its innermost bytes replaced by `inside`: compresses them as before, corrects the
/// lengths and checksums of the containers, and keeps every other byte. Unchanged content gives the identical
/// file. Fails with `does_not_fit` if a length is too large for its field.
[[nodiscard]] Result<Blob> close_envelope(const Blob& file, const Envelope& envelope, const Blob& inside);

/// An envelope and the bytes inside it.
struct Layer {
  Envelope envelope;
  Blob bytes;
  std::size_t packed_bytes = 0;  // of a stream: its bytes in the layer around it
};
/// Returns every layer of a file, the file itself first: compressed streams, entries of archives, chunks, and
/// the layers inside those. Leaves out what exceeds `limits`.
[[nodiscard]] std::vector<Layer> find_layers(const Blob& file, const EnvelopeLimits& limits = {});

/// One piece of a container, from the container's own table.
struct ContainerItem {
  EnvelopeStep step;
  std::size_t at = 0;     // offset of its stored bytes
  std::size_t bytes = 0;  // their number
};
/// Returns the pieces of a container: a zip archive, a PNG picture, or a sequence of chunks that covers all
/// bytes. Returns none for anything else.
[[nodiscard]] std::vector<ContainerItem> container_items(const Blob& bytes);

}  // namespace bayswap
BAYSWAP_EXPORT_END
