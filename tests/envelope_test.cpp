// Envelopes: opened to the last layer, changed there, and closed with nothing else changed.
#include <archive.h>
#include <archive_entry.h>
#include <gtest/gtest.h>
#include <zlib.h>
#include <bayswap/envelope.hpp>

#include <chrono>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "support/builders.hpp"
#include "support/core_files.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

using Bytes = std::vector<Byte>;
using Pieces = std::vector<std::pair<std::string, Blob>>;

Blob zip_with(const Pieces& files, bool packed) {
  Bytes out(65536);
  for (const auto& [name, bytes] : files) out.resize(out.size() + bytes.size());
  std::size_t used = 0;
  archive* a = archive_write_new();
  archive_write_set_format_zip(a);
  archive_write_set_options(a, packed ? "zip:compression=deflate" : "zip:compression=store");
  archive_write_set_bytes_per_block(a, 0);
  archive_write_open_memory(a, out.data(), out.size(), &used);
  for (const auto& [name, bytes] : files) {
    archive_entry* entry = archive_entry_new();
    archive_entry_set_pathname(entry, name.c_str());
    archive_entry_set_size(entry, static_cast<la_int64_t>(bytes.size()));
    archive_entry_set_filetype(entry, AE_IFREG);
    archive_entry_set_perm(entry, 0644);
    archive_write_header(a, entry);
    archive_write_data(a, bytes.data(), bytes.size());
    archive_entry_free(entry);
  }
  archive_write_close(a);
  archive_write_free(a);
  return Blob::copy_of(ByteView(out).first(used));
}

// Read by libarchive, which shares no code with ours.
std::map<std::string, Blob> unzipped(const Blob& file) {
  ArchiveLimits limits;
  auto store = ArchiveStore::open(file, "x.zip", limits);
  std::map<std::string, Blob> files;
  if (store)
    for (const auto& [name, one] : (*store)->files()) files[name] = one.bytes;
  return files;
}

Blob png_of(const Pieces& chunks) {
  Bytes out{0x89, 'P', 'N', 'G', 0x0d, 0x0a, 0x1a, 0x0a};
  const auto add = [&](const std::string& name, ByteView data) {
    Bytes chunk(12 + data.size());
    put_be32(chunk, 0, static_cast<std::uint32_t>(data.size()));
    std::ranges::copy(name, chunk.begin() + 4);
    std::ranges::copy(data, chunk.begin() + 8);
    put_be32(chunk, 8 + data.size(), crc32(ByteView(chunk).subspan(4, 4 + data.size())));
    out.insert(out.end(), chunk.begin(), chunk.end());
  };
  const Bytes head{0, 0, 0, 1, 0, 0, 0, 1, 8, 2, 0, 0, 0};
  add("IHDR", head);
  for (const auto& [name, data] : chunks) add(name, data.view());
  add("IEND", {});
  return Blob::copy_of(out);
}
bool is_sound_png(const Blob& file) {
  for (std::size_t at = 8; at + 12 <= file.size();) {
    const std::size_t length = be32(file.view(), at);
    if (at + 12 + length > file.size()) return false;
    if (be32(file.view(), at + 8 + length) != crc32(file.view().subspan(at + 4, 4 + length))) return false;
    at += 12 + length;
  }
  return true;
}

Blob chunks_of(const Pieces& pieces, const ChunkForm& form) {
  Bytes out(form.from, 0x5a);
  for (const auto& [name, data] : pieces) {
    std::string padded = name;
    padded.resize(form.name_bytes, form.decimal ? ' ' : '\0');
    const std::size_t head = form.name_bytes + form.length_bytes;
    const std::uint64_t length = data.size() + (form.counts_head ? head : 0);
    std::string number;
    if (form.decimal) {
      number = std::to_string(length);
      number = ":" + std::string(6 - number.size(), '0') + number + ":";
    } else {
      for (std::size_t i = 0; i < form.length_bytes; ++i)
        number += static_cast<char>(length >> 8 * (form.big_endian ? form.length_bytes - 1 - i : i));
    }
    const std::string both = form.length_first ? number + padded : padded + number;
    out.insert(out.end(), both.begin(), both.end());
    out.insert(out.end(), data.view().begin(), data.view().end());
    out.resize(out.size() + (form.alignment - data.size() % form.alignment) % form.alignment, 0);
  }
  return Blob::copy_of(out);
}

const Layer* layer_with(const std::vector<Layer>& layers, const Blob& bytes) {
  for (const Layer& layer : layers)
    if (layer.bytes == bytes && !layer.envelope.empty()) return &layer;
  return nullptr;
}

// One random wrapper around the bytes, beside other things.
Blob wrapped(const Blob& inside, int way, std::uint32_t seed) {
  const Blob other = noise(100 + seed % 900, seed);
  switch (way) {
    case 0:
      return wrap(Compression::gzip, inside);
    case 1:
      return wrap(Compression::chunks, inside);
    case 2:
      return joined({noise(40 + seed % 100, seed), wrap(Compression::zlib, inside), Blob::filled(30, 0)});
    case 3:
      return zip_with({{"a/first", other}, {"state", inside}, {"last", noise(60, seed + 1)}}, true);
    case 4:
      return zip_with({{"a/first", other}, {"state", inside}, {"last", noise(60, seed + 1)}}, false);
    case 5:
      return png_of({{"IDAT", other}, {"stAt", inside}, {"stBt", other}});
    case 6:
      return png_of({{"stAt", joined({Blob::filled(8, 1), wrap(Compression::zlib, inside)})}});
    default: {
      ChunkForm form;
      form.from = seed % 3 * 8;
      form.name_bytes = seed % 2 == 0 ? 4 : 8;
      form.big_endian = seed % 5 < 2;
      form.length_first = seed % 7 == 3;
      form.alignment = std::size_t{1} << seed % 3;
      return chunks_of({{"CPU", other}, {"RAM", inside}, {"END", noise(20, seed)}}, form);
    }
  }
}

TEST(Envelopes, ChangedInsideAndNowhereElse) {
  expect_property("what comes out goes back in, through every wrapper and two of them", [] {
    const auto seed = *rc::gen::inRange<std::uint32_t>(1, 100000);
    // Half of it blank, so that it packs.
    const Blob inside = joined({noise(200 + seed % 800, seed), Blob::filled(600, 0)});
    const int inner = *rc::gen::inRange(0, 8);
    const int outer = *rc::gen::inRange(-1, 8);
    const Blob once = wrapped(inside, inner, seed);
    const Blob file = outer < 0 ? once : wrapped(once, outer, seed + 7);
    const auto layers = find_layers(file);
    const Layer* own = layer_with(layers, inside);
    if (own == nullptr) RC_LOG() << "not found through " << inner << " in " << outer;
    RC_ASSERT(own != nullptr);
    RC_ASSERT(*open_envelope(file, own->envelope) == inside);
    RC_ASSERT(*close_envelope(file, own->envelope, inside) == file);
    std::vector<Byte> changed = bytes_of(inside);
    changed[seed % changed.size()] ^= 0x40;
    const Blob other = Blob::copy_of(changed);
    const auto closed = close_envelope(file, own->envelope, other);
    RC_ASSERT(closed.has_value());
    const auto again = find_layers(*closed);
    RC_ASSERT(again.size() == layers.size());
    for (std::size_t i = 0; i < layers.size(); ++i) {
      RC_ASSERT(again[i].envelope.size() == layers[i].envelope.size());
      const bool on_the_way =
          layers[i].envelope.size() <= own->envelope.size() &&
          std::equal(layers[i].envelope.begin(), layers[i].envelope.end(), own->envelope.begin(),
                     [](const EnvelopeStep& a, const EnvelopeStep& b) {
                       return a.kind == b.kind && a.name == b.name && a.index == b.index;
                     });
      if (on_the_way) continue;
      RC_ASSERT(again[i].bytes == layers[i].bytes);
    }
    RC_ASSERT(layer_with(again, other) != nullptr);
    // And back: the same file. But for chunks that are padded: where the changed sizes fit a smaller
    // alignment as well, nothing in the file tells any more how far a chunk of another size has to be padded.
    const bool is_padded = (inner == 7 && seed % 3 != 0) || (outer == 7 && (seed + 7) % 3 != 0);
    if (is_padded) return;
    RC_ASSERT(*close_envelope(*closed, layer_with(again, other)->envelope, inside) == file);
  });
}

TEST(Envelopes, ContainersStaySoundForOthers) {
  const Blob inside = joined({noise(500, 1), Blob::filled(4000, 0)});
  for (const bool packed : {true, false}) {
    const Blob zip = zip_with({{"one", noise(300, 2)}, {"two", inside}, {"three", noise(90, 3)}}, packed);
    const auto layers = find_layers(zip);
    const auto longer = close_envelope(zip, layer_with(layers, inside)->envelope, noise(9000, 4));
    ASSERT_TRUE(longer) << longer.error().message;
    const auto files = unzipped(*longer);
    ASSERT_EQ(files.size(), 3U);
    EXPECT_EQ(files.at("one"), noise(300, 2));
    EXPECT_EQ(files.at("two"), noise(9000, 4));
    EXPECT_EQ(files.at("three"), noise(90, 3));
  }
  const Blob png = png_of({{"stAt", inside}, {"stAt", noise(10, 1)}});
  const auto layers = find_layers(png);
  const auto shorter = close_envelope(png, layer_with(layers, inside)->envelope, noise(7, 4));
  EXPECT_TRUE(is_sound_png(*shorter));
  EXPECT_EQ(container_items(*shorter).size(), 4U);
  EXPECT_EQ(to_text(layer_with(find_layers(png), noise(10, 1))->envelope), "png chunk stAt #2");
}

TEST(Envelopes, ChunksInTheUsualWidthsAndOrders) {
  for (const std::size_t name : {3U, 4U, 8U, 16U})
    for (const std::size_t length : {2U, 4U, 8U})
      for (const bool big : {false, true})
        for (const bool first : {false, true})
          for (const bool counts : {false, true}) {
            const ChunkForm form{name == 8 ? 12U : 0U, name, length, big, first, counts, false,
                                 length == 4 ? 4U : 1U};
            const Blob file =
                chunks_of({{"CPU", noise(90, 1)}, {"WRAM", noise(3001, 2)}, {"A.B", noise(17, 3)}}, form);
            if (name == 3) continue;  // "WRAM" has four
            const auto items = container_items(file);
            ASSERT_EQ(items.size(), 3U) << to_text(form);
            EXPECT_EQ(items[1].bytes, 3001U) << to_text(form);
          }
  ChunkForm decimal;
  decimal.name_bytes = 3;
  decimal.length_bytes = 6;
  decimal.decimal = true;
  const Blob text = chunks_of({{"CPU", noise(90, 1)}, {"RAM", noise(3001, 2)}}, decimal);
  ASSERT_EQ(container_items(text).size(), 2U);
  const Envelope ram{container_items(text)[1].step};
  const auto other = close_envelope(text, ram, noise(12, 5));
  EXPECT_EQ(*open_envelope(*other, ram), noise(12, 5));
  EXPECT_FALSE(close_envelope(text, ram, Blob::filled(1000000, 1))) << "seven digits";
  EXPECT_TRUE(container_items(noise(5000, 1)).empty());
}

TEST(Envelopes, HostileOnesAreBounded) {
  // A stream that unfolds to more than is allowed, and a file that holds itself over and over.
  const Blob bomb = wrap(Compression::gzip, Blob::filled(std::size_t{8} << 20, 0));
  EnvelopeLimits small;
  small.max_bytes = 100000;
  EXPECT_EQ(find_layers(bomb, small).size(), 1U);
  EXPECT_EQ(open_envelope(bomb, find_layers(bomb)[1].envelope, 1000).error().code, ErrorCode::does_not_fit);
  Blob nested = noise(100, 1);
  for (int i = 0; i < 12; ++i) nested = wrap(Compression::gzip, nested);
  EXPECT_EQ(find_layers(nested).size(), EnvelopeLimits{}.max_depth + 1);
  expect_property("changed anywhere it is opened or refused", [] {
    const auto seed = *rc::gen::inRange<std::uint32_t>(1, 1000);
    const Blob file =
        wrapped(wrapped(noise(300, seed), *rc::gen::inRange(0, 8), seed), *rc::gen::inRange(0, 8), seed);
    const auto layers = find_layers(file);
    Bytes bytes = bytes_of(file);
    for (int i = 0; i < 3; ++i)
      bytes[*rc::gen::inRange<std::size_t>(0, bytes.size())] ^= *rc::gen::arbitrary<Byte>();
    if (*rc::gen::arbitrary<bool>()) bytes.resize(*rc::gen::inRange<std::size_t>(0, bytes.size()));
    const Blob broken = Blob::copy_of(bytes);
    (void)find_layers(broken);
    for (const Layer& layer : layers) {
      if (const auto open = open_envelope(broken, layer.envelope); !open)
        RC_ASSERT(!open.error().message.empty());
      (void)close_envelope(broken, layer.envelope, layer.bytes);
    }
  });
}

// Snapshots of live cores: the battery bytes are in one of the layers, and go back into the very file.
TEST(Envelopes, OfLiveCores) {
  std::size_t states = 0;
  for (const auto& [path, file] : core_files().files()) {
    const bool is_state = path.find(".state") != std::string::npos ||
                          path.find(".ss1") != std::string::npos || path.find(".mc0") != std::string::npos ||
                          path.find(".sgm") != std::string::npos;
    if (!is_state || path.find("/N/") != std::string::npos) continue;
    ++states;
    const unsigned seed = path.find("/A/") != std::string::npos ? 0x31 : 0x52;
    Bytes head;
    for (unsigned i = 0; i < 200; ++i) head.push_back(static_cast<Byte>(i * 7 + seed));
    Bytes cells;
    for (unsigned i = 0; i < 200; i += 2)
      cells.push_back(static_cast<Byte>((head[i] & 0xf) | (head[i + 1] & 0xf) << 4));
    Bytes lower = head;
    for (Byte& b : lower) b = static_cast<Byte>(b | 0xf0);
    std::size_t with = 0;
    for (const Layer& layer : find_layers(file.bytes)) {
      const ByteView bytes = layer.bytes.view();
      for (const Bytes& form : {head, cells, lower})
        if (const auto at = std::search(bytes.begin(), bytes.end(), form.begin(), form.end());
            at != bytes.end()) {
          ++with;
          Bytes changed = bytes_of(layer.bytes);
          changed[static_cast<std::size_t>(at - bytes.begin()) + 10] ^= 0x04;
          const Blob other = Blob::copy_of(changed);
          const auto closed = close_envelope(file.bytes, layer.envelope, other);
          ASSERT_TRUE(closed) << path;
          EXPECT_EQ(*open_envelope(*closed, layer.envelope), other) << path;
          EXPECT_EQ(*close_envelope(*closed, layer.envelope, layer.bytes), file.bytes)
              << path << ": compression is made as it was";
          break;
        }
    }
    EXPECT_GE(with, 1U) << path;
  }
  EXPECT_GE(states, 24U);
}

// Streams that unfold to much and end in damage: what comes out of them is counted all the same, and there is
// an end to it.
TEST(Envelopes, DamagedBombsAreChargedToo) {
  const Bytes zeros(std::size_t{60} << 20);
  Bytes packed(compressBound(zeros.size()));
  uLongf size = packed.size();
  ASSERT_EQ(compress2(packed.data(), &size, zeros.data(), zeros.size(), 9), Z_OK);
  packed.resize(size);
  packed.back() ^= 1;  // the check value
  std::size_t work = 0;
  const Blob bomb = Blob::copy_of(packed);
  EXPECT_FALSE(read_stream(Compression::zlib, bomb, std::size_t{64} << 20, &work));
  EXPECT_EQ(work, zeros.size());
  // A hundred of them in one file, each with another byte before it.
  Bytes many;
  for (Byte i = 0; i < 100; ++i) {
    many.push_back(i);
    many.insert(many.end(), packed.begin(), packed.end());
  }
  const auto begun = std::chrono::steady_clock::now();
  EXPECT_EQ(find_layers(Blob::copy_of(many)).size(), 1U);
  const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
  work = 0;
  const auto again = std::chrono::steady_clock::now();
  (void)read_stream(Compression::zlib, bomb, std::size_t{64} << 20, &work);
  const double each = std::chrono::duration<double>(std::chrono::steady_clock::now() - again).count();
  EXPECT_LT(seconds, 40 * each) << "of a hundred, seven are looked at to their end";
}

}  // namespace
}  // namespace bayswap::test
