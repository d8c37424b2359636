#include <bayswap/compression.hpp>

#include <fmt/format.h>
#include <zlib.h>

#include <algorithm>
#include <array>
#include <new>
#include <vector>

#include "base/endian.hpp"
#include "base/try.hpp"
#include "envelope/raw_deflate.hpp"

namespace bayswap {
namespace {

constexpr std::array<Byte, 8> chunks_magic{0x23, 0x52, 0x5a, 0x49, 0x50, 0x76, 0x01, 0x23};
constexpr std::size_t chunk_size_at = 8;   // 32 bits: plain bytes a chunk
constexpr std::size_t total_size_at = 12;  // 64 bits: plain bytes in all
constexpr std::size_t chunks_head_bytes = 20;
constexpr std::size_t usual_chunk_bytes = std::size_t{128} << 10;
constexpr std::size_t max_chunks = 65536;

constexpr std::array<Byte, 3> gzip_magic{0x1f, 0x8b, 0x08};

constexpr int raw_window = -15;
constexpr int zlib_window = 15;
constexpr int gzip_window = 31;

struct Inflated {
  Blob plain;
  std::size_t used_bytes = 0;
};

Result<Inflated> inflate_from(ByteView in, int window, std::size_t limit, std::size_t* work = nullptr) {
  z_stream z{};
  if (inflateInit2(&z, window) != Z_OK) throw std::bad_alloc();
  const auto close = [](z_stream* open) { inflateEnd(open); };
  const std::unique_ptr<z_stream, decltype(close)> guard(&z, close);
  // In pieces that stay where they are: a buffer that grows is there twice when it does.
  constexpr std::size_t piece_bytes = std::size_t{256} << 10;
  std::vector<Buffer> pieces;
  std::size_t last_bytes = 0;
  std::size_t total = 0;
  std::array<Byte, 16384> piece{};
  const std::size_t max_in = std::min<std::size_t>(in.size(), std::size_t{1} << 30);
  z.next_in =
      const_cast<Byte*>(in.data());  // NOLINT(cppcoreguidelines-pro-type-const-cast): zlib's old interface
  z.avail_in = static_cast<uInt>(max_in);
  for (int state = Z_OK; state != Z_STREAM_END;) {
    z.next_out = piece.data();
    z.avail_out = static_cast<uInt>(piece.size());
    state = inflate(&z, Z_NO_FLUSH);
    const std::size_t got = piece.size() - z.avail_out;
    if (work != nullptr) *work += got;
    if (total + got > limit)
      return fail(ErrorCode::does_not_fit, fmt::format("over {} bytes come out of it", limit),
                  "no save is that large: is it an archive of something else?");
    total += got;
    for (ByteView rest = ByteView(piece).first(got); !rest.empty();) {
      if (pieces.empty() || last_bytes == piece_bytes) {
        pieces.emplace_back(piece_bytes);
        last_bytes = 0;
      }
      const std::size_t count = std::min(rest.size(), piece_bytes - last_bytes);
      std::ranges::copy(rest.first(count), pieces.back().bytes().subspan(last_bytes).begin());
      last_bytes += count;
      rest = rest.subspan(count);
    }
    if (state != Z_OK && state != Z_STREAM_END)
      return fail(ErrorCode::damaged,
                  fmt::format("its compressed stream breaks off or is damaged at byte {} of {}",
                              max_in - z.avail_in, in.size()),
                  "copy the file again from where it came from");
  }
  Buffer out(total);
  std::size_t at = 0;
  for (Buffer& one : pieces) {
    const std::size_t count = std::min(piece_bytes, total - at);
    std::ranges::copy(one.view().first(count), out.bytes().subspan(at).begin());
    at += count;
    one = Buffer(0);
  }
  return Inflated{std::move(out).freeze(), max_in - z.avail_in};
}

std::vector<Byte> deflate_to(ByteView plain, int window, int level) {
  z_stream z{};
  constexpr int usual_memory = 8;
  if (deflateInit2(&z, level, Z_DEFLATED, window, usual_memory, Z_DEFAULT_STRATEGY) != Z_OK)
    throw std::bad_alloc();
  const auto close = [](z_stream* open) { deflateEnd(open); };
  const std::unique_ptr<z_stream, decltype(close)> guard(&z, close);
  std::vector<Byte> out(deflateBound(&z, static_cast<uLong>(plain.size())));
  z.next_in = const_cast<Byte*>(plain.data());  // NOLINT(cppcoreguidelines-pro-type-const-cast)
  z.avail_in = static_cast<uInt>(plain.size());
  z.next_out = out.data();
  z.avail_out = static_cast<uInt>(out.size());
  if (deflate(&z, Z_FINISH) != Z_STREAM_END) throw std::bad_alloc();
  out.erase(out.end() - static_cast<std::ptrdiff_t>(z.avail_out), out.end());
  return out;
}

// The effort that gave `stream` from `plain`; the likely one where none does, or where trying takes too long.
int level_of(ByteView stream, ByteView plain, int window, int likely) {
  constexpr std::size_t quick = std::size_t{1} << 20;
  if (plain.size() > quick) return likely;
  for (const int level : {likely, 6, 9, 1, 3, 2, 4, 5, 7, 8}) {
    const std::vector<Byte> again = deflate_to(plain, window, level);
    if (std::equal(again.begin(), again.end(), stream.begin(), stream.end())) return level;
  }
  return likely;
}

// What a zlib stream's head says of the effort that was made.
int zlib_level(ByteView stream) {
  static constexpr std::array<int, 4> levels{1, 3, 6, 9};
  return stream.size() < 2 ? 6 : levels.at(stream[1] >> 6);
}

int gzip_level(ByteView stream) {
  constexpr std::size_t effort_at = 8;
  if (stream.size() <= effort_at) return 6;
  return stream[effort_at] == 2 ? 9 : stream[effort_at] == 4 ? 1 : 6;
}

// The head of a gzip member, as RFC 1952 has it; empty where it runs over the end.
ByteView gzip_head(ByteView stream) {
  constexpr Byte with_checksum = 2;
  constexpr Byte with_extra = 4;
  constexpr Byte with_name = 8;
  constexpr Byte with_comment = 16;
  std::size_t at = 10;
  if (stream.size() < at) return {};
  const Byte flags = stream[3];
  if ((flags & with_extra) != 0) {
    if (stream.size() < at + 2) return {};
    at += 2 + le16(stream, at);
  }
  for (const Byte text : {with_name, with_comment}) {
    if ((flags & text) == 0) continue;
    while (at < stream.size() && stream[at] != 0) ++at;
    ++at;
  }
  if ((flags & with_checksum) != 0) at += 2;
  return at <= stream.size() ? stream.first(at) : ByteView{};
}

Result<Compressed> read_chunks(const Blob& bytes, std::size_t limit, std::size_t* work) {
  const ByteView in = bytes.view();
  const auto broken = [](std::size_t at, std::string_view what) {
    return fail(ErrorCode::damaged, fmt::format("the chunked container is damaged at byte {}: {}", at, what),
                "copy the file again from where it came from");
  };
  if (in.size() < chunks_head_bytes) return broken(in.size(), "it ends in its head");
  const std::size_t chunk = le32(in, chunk_size_at);
  const std::uint64_t total = le32(in, total_size_at) | std::uint64_t{le32(in, total_size_at + 4)} << 32;
  if (chunk == 0) return broken(chunk_size_at, "chunks of 0 bytes");
  if (total > limit)
    return fail(ErrorCode::does_not_fit, fmt::format("{} bytes are said to be in it, over {}", total, limit),
                "no save is that large: is it something else?");
  if (total / chunk > max_chunks) return broken(chunk_size_at, "far too many chunks");
  Buffer plain(static_cast<std::size_t>(total));
  std::size_t done = 0;
  std::size_t at = chunks_head_bytes;
  while (done < total) {
    if (at + 4 > in.size()) return broken(at, "a chunk is missing");
    const std::size_t length = le32(in, at);
    at += 4;
    if (length > in.size() - at) return broken(at, "a chunk runs over the end");
    const std::size_t wanted = std::min<std::size_t>(chunk, total - done);
    BAYSWAP_TRY(const Inflated piece, inflate_from(in.subspan(at, length), zlib_window, wanted, work));
    if (piece.plain.size() != wanted) return broken(at, "a chunk is too short");
    std::ranges::copy(piece.plain.view(), plain.bytes().subspan(done).begin());
    done += wanted;
    at += length;
  }
  return Compressed{Compression::chunks, bytes.slice(0, at), std::move(plain).freeze()};
}

bool begins_with(const Blob& file, ByteView magic) {
  return file.size() >= magic.size() && std::ranges::equal(file.view().first(magic.size()), magic);
}

// The two bytes that a zlib stream begins with. Many a file does by chance.
bool may_be_zlib(ByteView in) {
  return in.size() >= 8 && (in[0] & 0x0f) == 8 && in[0] >> 4 <= 7 && (in[0] * 256 + in[1]) % 31 == 0 &&
         (in[1] & 0x20) == 0;
}

void append(std::vector<Byte>& out, ByteView bytes) {
  out.insert(out.end(), bytes.begin(), bytes.end());
}
void append_le32(std::vector<Byte>& out, std::uint64_t value) {
  for (int shift = 0; shift < 32; shift += 8) out.push_back(static_cast<Byte>(value >> shift));
}

Blob write_gzip(ByteView head, int level, ByteView plain) {
  std::vector<Byte> out(head.begin(), head.end());
  append(out, deflate_to(plain, raw_window, level));
  append_le32(out, ::crc32(0, plain.data(), static_cast<uInt>(plain.size())));
  append_le32(out, plain.size());
  return Blob::copy_of(out);
}

Blob write_chunks(std::size_t chunk, int level, ByteView plain) {
  std::vector<Byte> out(chunks_magic.begin(), chunks_magic.end());
  append_le32(out, chunk);
  append_le32(out, plain.size());
  append_le32(out, static_cast<std::uint64_t>(plain.size()) >> 32);
  for (std::size_t at = 0; at < plain.size(); at += chunk) {
    const auto piece = deflate_to(plain.subspan(at, std::min(chunk, plain.size() - at)), zlib_window, level);
    append_le32(out, piece.size());
    append(out, piece);
  }
  return Blob::copy_of(out);
}

}  // namespace

std::string_view to_text(Compression kind) {
  switch (kind) {
    case Compression::none:
      return "none";
    case Compression::gzip:
      return "gzip";
    case Compression::zlib:
      return "zlib";
    case Compression::chunks:
      return "chunks";
  }
  return "none";
}

std::optional<Compression> compression_from_text(std::string_view text) {
  for (const Compression kind :
       {Compression::none, Compression::gzip, Compression::zlib, Compression::chunks})
    if (text == to_text(kind)) return kind;
  return std::nullopt;
}

Result<Compressed> read_stream(Compression kind, const Blob& bytes, std::size_t limit, std::size_t* work) {
  switch (kind) {
    case Compression::none:
      return Compressed{kind, bytes, bytes};
    case Compression::chunks:
      if (!begins_with(bytes, chunks_magic))
        return fail(ErrorCode::damaged, "no chunked container begins there");
      return read_chunks(bytes, limit, work);
    case Compression::gzip:
    case Compression::zlib:
      break;
  }
  BAYSWAP_TRY(const Inflated inflated,
              inflate_from(bytes.view(), kind == Compression::gzip ? gzip_window : zlib_window, limit, work));
  return Compressed{kind, bytes.slice(0, inflated.used_bytes), inflated.plain};
}

Result<Compressed> unwrap(const Blob& file) {
  // What a small file unfolds to is held in memory: not more than a card has, and in proportion.
  const std::size_t limit = (std::size_t{24} << 20) + 3 * file.size();
  for (const auto& [kind, magic] : {std::pair{Compression::gzip, ByteView(gzip_magic)},
                                    std::pair{Compression::chunks, ByteView(chunks_magic)}}) {
    if (!begins_with(file, magic)) continue;
    BAYSWAP_TRY(Compressed whole, read_stream(kind, file, limit));
    if (whole.stream.size() != file.size())
      return fail(ErrorCode::damaged,
                  fmt::format("{} bytes follow the compressed stream", file.size() - whole.stream.size()),
                  "is it several files in one? Take it apart first");
    return whole;
  }
  if (may_be_zlib(file.view())) {
    auto whole = read_stream(Compression::zlib, file, limit);
    if (whole && whole->stream.size() == file.size() && !whole->plain.empty()) return whole;
  }
  return Compressed{Compression::none, file, file};
}

Blob wrap(const Compressed& like, const Blob& plain) {
  if (like.kind == Compression::none) return plain;
  if (plain == like.plain) return like.stream;
  const ByteView stream = like.stream.view();
  switch (like.kind) {
    case Compression::gzip: {
      const ByteView head = gzip_head(stream);
      constexpr std::size_t foot_bytes = 8;
      const ByteView raw = stream.size() > head.size() + foot_bytes
                               ? stream.subspan(head.size(), stream.size() - head.size() - foot_bytes)
                               : ByteView{};
      return write_gzip(head, level_of(raw, like.plain.view(), raw_window, gzip_level(stream)), plain.view());
    }
    case Compression::chunks: {
      const std::size_t first = chunks_head_bytes + 4;
      return write_chunks(le32(stream, chunk_size_at),
                          zlib_level(stream.size() > first ? stream.subspan(first) : ByteView{}),
                          plain.view());
    }
    case Compression::zlib:
    case Compression::none:
      break;
  }
  const int level = level_of(stream, like.plain.view(), zlib_window, zlib_level(stream));
  return Blob::copy_of(deflate_to(plain.view(), zlib_window, level));
}

Result<Blob> inflate_raw(ByteView stream, std::size_t max_bytes) {
  BAYSWAP_TRY(const Inflated inflated, inflate_from(stream, raw_window, max_bytes));
  if (inflated.used_bytes != stream.size())
    return fail(ErrorCode::damaged, "bytes follow the compressed stream", "copy the file again");
  return inflated.plain;
}

Blob deflate_raw(ByteView plain, ByteView like) {
  constexpr int usual_level = 6;
  const auto old = inflate_raw(like, std::size_t{1} << 20);
  const int level = old ? level_of(like, old->view(), raw_window, usual_level) : usual_level;
  return Blob::copy_of(deflate_to(plain, raw_window, level));
}

Blob wrap(Compression kind, const Blob& plain) {
  static constexpr std::array<Byte, 10> plain_gzip_head{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff};
  constexpr int usual_level = 6;
  switch (kind) {
    case Compression::none:
      return plain;
    case Compression::gzip:
      return write_gzip(plain_gzip_head, usual_level, plain.view());
    case Compression::zlib:
      return Blob::copy_of(deflate_to(plain.view(), zlib_window, usual_level));
    case Compression::chunks:
      break;
  }
  return write_chunks(usual_chunk_bytes, usual_level, plain.view());
}

}  // namespace bayswap
