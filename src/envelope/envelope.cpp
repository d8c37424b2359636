#include <bayswap/envelope.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cstring>

#include "base/text.hpp"
#include "base/try.hpp"
#include "envelope/containers.hpp"

namespace bayswap {
namespace {

const std::array<const Container*, 3> containers{&zip_container, &png_container, &chunk_container};

const Container& container_of(EnvelopeStep::Kind kind) {
  for (const Container* one : containers)
    if (one->kind == kind) return *one;
  return chunk_container;
}

std::string step_text(const EnvelopeStep& step) {
  const std::string number = step.index > 0 ? fmt::format(" #{}", step.index + 1) : "";
  switch (step.kind) {
    case EnvelopeStep::Kind::stream:
      return step.at == 0 ? std::string(to_text(step.compression))
                          : fmt::format("{} at {}", to_text(step.compression), step.at);
    case EnvelopeStep::Kind::zip_entry:
      return fmt::format("zip entry {}{}", printable(step.name), number);
    case EnvelopeStep::Kind::png_chunk:
      return fmt::format("png chunk {}{}", step.name, number);
    case EnvelopeStep::Kind::chunk:
      return fmt::format("chunk {}{}", step.name, number);
  }
  return "";
}

tl::unexpected<Error> does_not_lead(const EnvelopeStep& step) {
  return fail(ErrorCode::damaged, fmt::format("{} is not in it", step_text(step)),
              "the file is damaged, or of another form than the others");
}

// The item that a step means; nothing if it is not there.
std::optional<ContainerItem> item_for(const Blob& bytes, const EnvelopeStep& step) {
  const std::vector<ContainerItem> all = step.kind == EnvelopeStep::Kind::chunk
                                             ? chunks_in_form(bytes.view(), step.form)
                                             : container_of(step.kind).items(bytes);
  for (const ContainerItem& item : all)
    if (item.step.name == step.name && item.step.index == step.index) return item;
  return std::nullopt;
}

Result<Blob> open_step(const Blob& bytes, const EnvelopeStep& step, std::size_t max_bytes) {
  if (step.kind == EnvelopeStep::Kind::stream) {
    if (step.at > bytes.size()) return does_not_lead(step);
    BAYSWAP_TRY(const Compressed stream,
                read_stream(step.compression, bytes.slice(step.at, bytes.size()), max_bytes));
    return stream.plain;
  }
  const auto item = item_for(bytes, step);
  if (!item) return does_not_lead(step);
  return container_of(step.kind).read(bytes, *item, max_bytes);
}

Result<Blob> close_step(const Blob& bytes, const EnvelopeStep& step, const Blob& inside) {
  if (step.kind == EnvelopeStep::Kind::stream) {
    if (step.at > bytes.size()) return does_not_lead(step);
    BAYSWAP_TRY(const Compressed stream, read_stream(step.compression, bytes.slice(step.at, bytes.size()),
                                                     EnvelopeLimits{}.max_bytes));
    const Blob packed = wrap(stream, inside);
    return spliced(bytes.view(), step.at, stream.stream.size(), packed.view());
  }
  const auto item = item_for(bytes, step);
  if (!item) return does_not_lead(step);
  return container_of(step.kind).replace(bytes, *item, inside);
}

Result<Blob> closed(const Blob& bytes, std::span<const EnvelopeStep> steps, const Blob& inside) {
  if (steps.empty()) return inside;
  BAYSWAP_TRY(const Blob own, open_step(bytes, steps.front(), EnvelopeLimits{}.max_bytes));
  BAYSWAP_TRY(const Blob changed, closed(own, steps.subspan(1), inside));
  if (changed == own) return bytes;
  return close_step(bytes, steps.front(), changed);
}

// ---- Looking for layers ----------------------------------------------------------------------------------

class LayerFinder {
 public:
  LayerFinder(const Blob& file, const EnvelopeLimits& limits)
      : limits_(limits), bytes_left_(limits.max_bytes), work_left_(work_factor * limits.max_bytes) {
    layers_.push_back({{}, file});
  }

  std::vector<Layer> run() {
    for (std::size_t i = 0; i < layers_.size(); ++i) {
      if (layers_[i].envelope.size() >= limits_.max_depth) continue;
      const Layer layer = layers_[i];
      look_into(layer);
    }
    return std::move(layers_);
  }

 private:
  bool add(const Layer& outer, EnvelopeStep step, Blob inside, std::size_t packed_bytes = 0) {
    if (layers_.size() >= limits_.max_layers || inside.size() > bytes_left_) return false;
    bytes_left_ -= inside.size();
    Layer layer{outer.envelope, std::move(inside), packed_bytes};
    layer.envelope.push_back(std::move(step));
    layers_.push_back(std::move(layer));
    return true;
  }

  void look_into(const Layer& layer) {
    if (compressed_as_a_whole(layer)) return;
    for (const Container* container : containers) {
      const auto items = container->items(layer.bytes);
      if (items.empty()) continue;
      // A picture's own lines hold no save.
      for (const ContainerItem& item : items)
        if (item.bytes > 0 && item.step.name != "IDAT")
          if (auto inside = container->read(layer.bytes, item, bytes_left_))
            add(layer, item.step, *std::move(inside));
      return;
    }
    streams_inside(layer);
  }

  // What is decompressed costs time, also where it comes to nothing.
  Result<Compressed> try_stream(Compression kind, const Blob& bytes) {
    std::size_t work = 0;
    auto stream = read_stream(kind, bytes, std::min(bytes_left_, work_left_), &work);
    work_left_ -= std::min(work_left_, work);
    return stream;
  }

  bool compressed_as_a_whole(const Layer& layer) {
    for (const Compression kind : {Compression::gzip, Compression::chunks, Compression::zlib}) {
      if (!may_begin(kind, layer.bytes.view(), 0)) continue;
      const auto stream = try_stream(kind, layer.bytes);
      if (!stream || stream->stream.size() != layer.bytes.size() || stream->plain.empty()) continue;
      add(layer, step_of(kind, 0), stream->plain, stream->stream.size());
      return true;
    }
    return false;
  }

  // Streams somewhere in it. Two bytes that look like the head of one are there by chance often.
  void streams_inside(const Layer& layer) {
    constexpr int max_tries = 512;
    constexpr std::size_t least = 64;
    int tries = 0;
    const ByteView bytes = layer.bytes.view();
    for (std::size_t at = 0; at + least / 4 < bytes.size() && tries < max_tries; ++at) {
      const Byte first = bytes.data()[at];
      if (first != 0x78 && first != 0x1f && first != 0x23) continue;
      for (const Compression kind : {Compression::zlib, Compression::gzip, Compression::chunks}) {
        if (!may_begin(kind, bytes, at)) continue;
        ++tries;
        const auto stream = try_stream(kind, layer.bytes.slice(at, bytes.size()));
        if (!stream || stream->plain.size() < least) continue;
        if (add(layer, step_of(kind, at), stream->plain, stream->stream.size()))
          at += stream->stream.size() - 1;
        break;
      }
    }
  }

  static EnvelopeStep step_of(Compression kind, std::size_t at) {
    EnvelopeStep step;
    step.kind = EnvelopeStep::Kind::stream;
    step.compression = kind;
    step.at = at;
    return step;
  }
  static bool may_begin(Compression kind, ByteView bytes, std::size_t at) {
    if (bytes.size() - at < 16) return false;
    const Byte* head = bytes.data() + at;
    switch (kind) {
      case Compression::gzip:
        return head[0] == 0x1f && head[1] == 0x8b && head[2] == 8;
      case Compression::chunks:
        return head[0] == 0x23 && head[1] == 0x52 && head[2] == 0x5a && head[3] == 0x49;
      case Compression::zlib:
        return head[0] == 0x78 && (head[1] == 0x01 || head[1] == 0x5e || head[1] == 0x9c || head[1] == 0xda);
      case Compression::none:
        break;
    }
    return false;
  }

  const EnvelopeLimits& limits_;
  std::size_t bytes_left_;
  static constexpr std::size_t work_factor = 4;
  std::size_t work_left_;
  std::vector<Layer> layers_;
};

}  // namespace

Blob spliced(ByteView bytes, std::size_t at, std::size_t count, ByteView inside) {
  Buffer out(bytes.size() - count + inside.size());
  const auto copy = [&](ByteView piece, std::size_t to) {
    if (!piece.empty()) std::memcpy(out.bytes().data() + to, piece.data(), piece.size());
  };
  copy(bytes.first(at), 0);
  copy(inside, at);
  copy(bytes.subspan(at + count), at + inside.size());
  return std::move(out).freeze();
}

std::string to_text(const ChunkForm& form) {
  const std::string from = form.from > 0 ? fmt::format(", from {}", form.from) : "";
  if (form.decimal) return fmt::format("names of {}, lengths in decimal digits{}", form.name_bytes, from);
  return fmt::format("{}names of {}, lengths of {} {}-endian{}{}{}",
                     form.length_first ? "lengths first, " : "", form.name_bytes, form.length_bytes,
                     form.big_endian ? "big" : "little", form.counts_head ? " that count the head" : "",
                     form.alignment > 1 ? fmt::format(", filled up to {}", form.alignment) : "", from);
}

std::string to_text(const Envelope& envelope) {
  if (envelope.empty()) return "the file itself";
  std::string text;
  for (const EnvelopeStep& step : envelope) text += (text.empty() ? "" : " > ") + step_text(step);
  return text;
}

Result<Blob> open_envelope(const Blob& file, const Envelope& envelope, std::size_t max_bytes) {
  Blob bytes = file;
  for (const EnvelopeStep& step : envelope) {
    BAYSWAP_TRY(bytes, open_step(bytes, step, max_bytes));
  }
  return bytes;
}

Result<Blob> close_envelope(const Blob& file, const Envelope& envelope, const Blob& inside) {
  return closed(file, envelope, inside);
}

std::vector<Layer> find_layers(const Blob& file, const EnvelopeLimits& limits) {
  return LayerFinder(file, limits).run();
}

std::vector<ContainerItem> container_items(const Blob& bytes) {
  for (const Container* container : containers)
    if (auto items = container->items(bytes); !items.empty()) return items;
  return {};
}

}  // namespace bayswap
