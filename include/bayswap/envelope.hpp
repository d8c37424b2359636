// What is around a file's content: compression, archives, pictures, trees of chunks. Opened step by step,
// changed inside, and closed again with everything else as it was.
#pragma once

#include <bayswap/compression.hpp>
#include <bayswap/export.hpp>

#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// How chunks stand one behind the other: each a name and the length of its data, then the data.
struct ChunkForm {
  std::size_t from = 0;          // where the first one begins
  std::size_t name_bytes = 4;    // of a fixed length, filled up with 00 or spaces
  std::size_t length_bytes = 4;  // a binary number; 6 decimal digits where `decimal`
  bool big_endian = false;
  bool length_first = false;  // the length stands before the name
  bool counts_head = false;   // the length counts name and length as well
  bool decimal = false;       // "NAME:000123:" as text
  std::size_t alignment = 1;  // data is filled up to a multiple of it
  [[nodiscard]] bool operator==(const ChunkForm&) const = default;
};
/// "name 4, length 4 little-endian, from 16", ...
[[nodiscard]] std::string to_text(const ChunkForm& form);

/// One step from what is around to what is inside.
struct EnvelopeStep {
  enum class Kind {
    stream,     // a compressed stream
    zip_entry,  // a file in a zip archive
    png_chunk,  // a chunk of a PNG picture
    chunk       // of a sequence of chunks
  };
  Kind kind{};
  Compression compression = Compression::none;  // of a stream
  std::size_t at = 0;                           // where the stream begins in what is around it
  std::string name;                             // of an entry or a chunk
  std::size_t index = 0;                        // which one of that name, from 0
  ChunkForm form;                               // of a chunk
  [[nodiscard]] bool operator==(const EnvelopeStep&) const = default;
};
/// Steps from the file inwards; empty: the file as it is.
using Envelope = std::vector<EnvelopeStep>;
/// "gzip", "png chunk stAt > zlib at 8", ...; "the file itself" if it is empty.
[[nodiscard]] std::string to_text(const Envelope& envelope);

struct EnvelopeLimits {
  std::size_t max_bytes = std::size_t{96} << 20;  // of all layers together
  std::size_t max_layers = 256;
  std::size_t max_depth = 4;
};

/// Returns what is inside. Fails with `damaged` if a step does not fit what is there, `does_not_fit` if more
/// than `max_bytes` come out of it.
[[nodiscard]] Result<Blob> open_envelope(const Blob& file, const Envelope& envelope,
                                         std::size_t max_bytes = EnvelopeLimits{}.max_bytes);
/// Returns the file with `inside` in the place of what the envelope leads to: compression is made anew as the
/// old one was, lengths and checksums of the containers are made right, every other byte stays. The same
/// inside gives the very same file. Fails with `does_not_fit` if a length can't be said in its field.
[[nodiscard]] Result<Blob> close_envelope(const Blob& file, const Envelope& envelope, const Blob& inside);

/// What an envelope leads to.
struct Layer {
  Envelope envelope;
  Blob bytes;
};
/// Returns every layer of a file, the file itself first: what is compressed as a whole or from some place on,
/// entries of archives, chunks, and what is in those. Bounded by `limits`; what lies beyond is left out.
[[nodiscard]] std::vector<Layer> find_layers(const Blob& file, const EnvelopeLimits& limits = {});

/// One piece of a container, as the container's own table has it.
struct ContainerItem {
  EnvelopeStep step;
  std::size_t at = 0;     // of its bytes as they are stored
  std::size_t bytes = 0;  // as they are stored
};
/// Returns the pieces of a container: a zip archive, a PNG picture, or chunks in a form that fits from one
/// end to the other. Empty if it is none.
[[nodiscard]] std::vector<ContainerItem> container_items(const Blob& bytes);

}  // namespace bayswap
BAYSWAP_EXPORT_END
