#include <bayswap/cart_store.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <mutex>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t page_bytes = std::size_t{64} << 10;
constexpr std::size_t clock_file_bytes = 8;
constexpr std::size_t max_named = 4;  // unstable addresses, in a sentence

// As files of the platform's ROMs are named, in the order the cartridge has.
std::string_view rom_extension(Platform platform) {
  return platform == Platform::n64 ? "z64" : platform == Platform::snes ? "sfc" : tag(platform);
}

// As the layouts of the platform name them.
std::string_view extension(Platform platform, PartKind kind) {
  if (kind == PartKind::rtc) return ".rtc";
  if (kind == PartKind::pak) return ".mpk";
  switch (platform) {
    case Platform::snes:
    case Platform::md:
      return ".srm";
    case Platform::n64:
      return kind == PartKind::eeprom ? ".eep" : kind == PartKind::flash ? ".fla" : ".sra";
    default:
      return ".sav";
  }
}

// A process opens a line once, whoever uses it.
Result<std::shared_ptr<CartPort>> shared_port(const std::string& device) {
  static std::mutex mutex;
  static std::map<std::string, std::weak_ptr<CartPort>> open_ports;
  const std::scoped_lock lock(mutex);
  if (auto known = open_ports[device].lock()) return known;
  BAYSWAP_TRY(auto opened, CartPort::open(device));
  std::shared_ptr<CartPort> port = std::move(opened);
  open_ports[device] = port;
  return port;
}

tl::unexpected<Error> no_file(const std::string& shown) {
  return fail(ErrorCode::not_found, fmt::format("{} is not on the cartridge", shown),
              "look what is in the reader");
}

}  // namespace

bool is_cart_path(std::string_view path) {
  return path.starts_with(cart_prefix);
}

std::string device_of_cart(std::string_view path) {
  if (is_cart_path(path)) path.remove_prefix(cart_prefix.size());
  constexpr std::array<std::string_view, 9> own{".sav", ".srm", ".rtc", ".eep", ".fla",
                                                ".sra", ".mpk", ".z64", ".sfc"};
  const std::string_view extension = extension_of(path);
  const bool is_file = std::ranges::find(own, extension) != own.end() ||
                       (!extension.empty() && platform_from_tag(extension.substr(1)));
  if (is_file) path = path.substr(0, path.rfind('/'));
  while (path.size() > 1 && path.ends_with('/')) path.remove_suffix(1);
  return std::string(path);
}

struct CartStore::Held {
  CartIdentity game;
  std::string stem;
  std::string rom;  // the file's name; empty: there is none
  std::vector<std::pair<std::string, CartChip>> chips;
  std::string clock;  // the file's name; empty: there is none
  std::map<std::string, Blob> read;
  std::map<std::uint64_t, Blob> rom_pages;
};

CartStore::CartStore(std::string root) : root_(std::move(root)) {
  while (root_.size() > 1 && root_.ends_with('/')) root_.pop_back();
}
CartStore::~CartStore() {
  if (!port_ || !events_set_) return;
  port_->on_progress = nullptr;  // another store may go on with the line
  port_->on_attempt = nullptr;
  port_->is_cancelled = nullptr;
}

void CartStore::say(std::vector<ChipFact> chips, std::optional<std::uint16_t> millivolts) {
  said_ = std::move(chips);
  millivolts_ = millivolts;
}

StoreTraits CartStore::traits() const {
  StoreTraits traits;
  traits.slow = true;
  traits.one_thread = true;
  return traits;
}

FileTraits CartStore::file_traits(const std::string& path) const {
  return {true, path.ends_with(".rtc")};
}

std::string CartStore::name_in(const std::string& path) {
  std::string_view name = path;
  while (name.starts_with("./")) name.remove_prefix(2);
  return is_cart_path(name) ? std::string(name_of(name)) : std::string(name);
}

std::string CartStore::display_path(const std::string& path) const {
  return absolute_path(path);
}
std::string CartStore::absolute_path(const std::string& path) const {
  const std::string name = name_in(path);
  return name.empty() || name == "." || path == root_ ? root_ : root_ + "/" + name;
}

Result<CartPort*> CartStore::port() {
  if (!port_) {
    BAYSWAP_TRY(port_, shared_port(device_of_cart(root_)));
  }
  if (!events_set_ && (events_.progress || events_.attempt || events_.is_cancelled)) {
    port_->on_progress = events_.progress;
    port_->on_attempt = events_.attempt;
    port_->is_cancelled = events_.is_cancelled;
    events_set_ = true;
  }
  return port_.get();
}

// What is in the reader now. Asked at every use: another cartridge may be in.
Result<CartStore::Held*> CartStore::look() {
  BAYSWAP_TRY(CartPort* const port, this->port());
  BAYSWAP_TRY(const CartLook now, port->look());
  if (held_ && held_->game.counter == now.counter && now.seat == CartLook::Seat::in && now.millivolts != 0)
    return held_.get();
  held_.reset();
  BAYSWAP_CHECK(port->power_up(millivolts_));
  auto held = std::make_unique<Held>();
  BAYSWAP_TRY(held->game, port->identify());
  const GameId& game = held->game.rom.game;
  // Where the reader can't tell the voltage, the header does, once there is some.
  constexpr std::uint16_t tolerance = 400;  // millivolts
  BAYSWAP_TRY(const CartLook powered, port->look());
  if (held->game.rom_bytes > 0 && powered.millivolts > volts_of(game.platform) + tolerance) {
    (void)port->power_down();
    return fail(
        ErrorCode::unsafe,
        fmt::format("this is a cartridge of {}, made for {:.1f} V, and it had {:.1f} V: its power is off",
                    tag(game.platform), volts_of(game.platform) / 1000.0, powered.millivolts / 1000.0),
        "leave the voltage out, or set the reader's switch to the cartridge's own");
  }
  held->stem = game.title.empty() ? std::string("cartridge") : as_file_name(game.title);
  if (!game.code.empty()) held->stem += fmt::format(" [{}]", as_file_name(game.code));
  if (game.title.empty() && game.code.empty() && held->game.rom_bytes > 0) {
    // Nothing names it: the first bytes of its ROM do.
    BAYSWAP_TRY(const Blob head, port->read_rom(held->game, 0, page_bytes));
    held->stem += fmt::format(" [{:08X}]", crc32(head.view()));
  }
  if (game.revision > 0) held->stem += fmt::format(" r{}", game.revision);
  if (held->game.rom_bytes > 0) held->rom = fmt::format("{}.{}", held->stem, rom_extension(game.platform));
  BAYSWAP_TRY(auto chips, port->find_chips(held->game, said_));
  for (CartChip& chip : chips) {
    std::string name = held->stem + std::string(extension(game.platform, chip.kind));
    held->chips.emplace_back(std::move(name), std::move(chip));
  }
  BAYSWAP_TRY(const auto clock, port->clock_start(held->game));
  if (clock) held->clock = held->stem + ".rtc";
  held_ = std::move(held);
  return held_.get();
}

Result<CartIdentity> CartStore::game() {
  BAYSWAP_TRY(const Held* const held, look());
  return held->game;
}
Result<std::vector<std::pair<std::string, CartChip>>> CartStore::chips() {
  BAYSWAP_TRY(const Held* const held, look());
  return held->chips;
}
Result<std::string> CartStore::rom_name() {
  BAYSWAP_TRY(const Held* const held, look());
  return held->rom;
}

Result<std::vector<FileInfo>> CartStore::list(const std::string& folder) {
  if (const std::string name = name_in(folder); !name.empty() && name != "." && folder != root_)
    return no_file(display_path(folder));
  BAYSWAP_TRY(const Held* const held, look());
  std::vector<FileInfo> files;
  const auto add = [&](const std::string& name, std::uint64_t bytes) {
    if (name.empty()) return;
    FileInfo info;
    info.name = name;
    info.size_bytes = bytes;
    files.push_back(std::move(info));
  };
  add(held->rom, held->game.rom_bytes);
  for (const auto& [name, chip] : held->chips) add(name, chip.bytes);
  add(held->clock, clock_file_bytes);
  std::ranges::sort(files, {}, &FileInfo::name);
  return files;
}

Result<std::optional<FileInfo>> CartStore::stat(const std::string& path) {
  const std::string name = name_in(path);
  if (name.empty() || name == "." || path == root_) {
    // Whether a cartridge is in: which one it is takes much longer.
    const auto port = this->port();
    if (!port && port.error().code == ErrorCode::not_found) return std::nullopt;
    if (!port) return tl::unexpected(port.error());
    BAYSWAP_TRY(const CartLook now, (*port)->look());
    if (now.seat != CartLook::Seat::in) return std::nullopt;
    FileInfo info;
    info.kind = FileInfo::Kind::folder;
    return info;
  }
  auto files = list(".");
  if (!files && files.error().code == ErrorCode::not_found) return std::nullopt;
  if (!files) return tl::unexpected(std::move(files.error()));
  const auto found = std::ranges::find(*files, name, &FileInfo::name);
  return found == files->end() ? std::nullopt : std::optional(*found);
}

Result<Blob> CartStore::rom_range(Held& held, std::uint64_t at, std::size_t count) {
  if (at >= held.game.rom_bytes || count == 0) return Blob();
  count = static_cast<std::size_t>(std::min<std::uint64_t>(count, held.game.rom_bytes - at));
  Buffer out(count);
  BAYSWAP_TRY(CartPort* const port, this->port());
  constexpr std::size_t max_pages = 1024;
  for (std::uint64_t page = at / page_bytes; page * page_bytes < at + count; ++page) {
    if (!held.rom_pages.contains(page)) {
      if (held.rom_pages.size() >= max_pages) held.rom_pages.clear();
      BAYSWAP_TRY(held.rom_pages[page], port->read_rom(held.game, page * page_bytes, page_bytes));
    }
    const Blob& bytes = held.rom_pages[page];
    const std::uint64_t from = std::max(at, page * page_bytes);
    const std::uint64_t to = std::min<std::uint64_t>(at + count, page * page_bytes + bytes.size());
    if (from >= to) break;
    std::copy_n(bytes.view().begin() + static_cast<std::ptrdiff_t>(from - page * page_bytes), to - from,
                out.bytes().begin() + static_cast<std::ptrdiff_t>(from - at));
  }
  return std::move(out).freeze();
}

Result<Blob> CartStore::whole(Held& held, const std::string& name) {
  const auto known = held.read.find(name);
  if (known != held.read.end()) return known->second;
  BAYSWAP_TRY(CartPort* const port, this->port());
  if (!held.clock.empty() && name == held.clock) {
    BAYSWAP_TRY(const auto start, port->clock_start(held.game));
    Buffer bytes(clock_file_bytes);
    for (std::size_t i = 0; i < clock_file_bytes; ++i)
      bytes.bytes()[i] = static_cast<Byte>(static_cast<std::uint64_t>(start.value_or(0)) >> (8 * i));
    return held.read[name] = std::move(bytes).freeze();
  }
  const auto chip = std::ranges::find(held.chips, name, [](const auto& one) { return one.first; });
  if (chip == held.chips.end()) return no_file(display_path(name));
  BAYSWAP_TRY(const CartDump dump, port->dump(held.game, chip->second));
  if (dump.unstable_count > 0) {
    std::vector<std::string> at;
    for (std::size_t i = 0; i < std::min(dump.unstable.size(), max_named); ++i)
      at.push_back(fmt::format("{:X}", dump.unstable[i]));
    return fail(ErrorCode::damaged,
                fmt::format("{}: readings differ in {}, at {}{}", display_path(name),
                            counted(dump.unstable_count, "byte"), joined(at, ", "),
                            dump.unstable_count > max_named ? ", ..." : ""),
                "clean the contacts and put it in again; if that does not help its battery is nearly empty");
  }
  return held.read[name] = dump.bytes;
}

Result<Blob> CartStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  BAYSWAP_TRY(Held* const held, look());
  const std::string name = name_in(path);
  if (!held->rom.empty() && name == held->rom) return rom_range(*held, at, count);
  BAYSWAP_TRY(const Blob bytes, whole(*held, name));
  if (at >= bytes.size()) return Blob();
  return bytes.slice(static_cast<std::size_t>(at),
                     std::min(count, bytes.size() - static_cast<std::size_t>(at)));
}

// `touched`: the chip may hold something else than before.
Result<void> CartStore::write(const std::string& name, const Blob& bytes, const Blob* only_if,
                              bool& touched) {
  touched = false;
  BAYSWAP_TRY(Held* const held, look());
  BAYSWAP_TRY(CartPort* const port, this->port());
  held->read.erase(name);
  if (!held->clock.empty() && name == held->clock) {
    if (bytes.size() != clock_file_bytes)
      return fail(ErrorCode::does_not_fit, "a clock is set by the 8 bytes of its time", "");
    touched = true;
    return port->set_clock_start(held->game, static_cast<std::int64_t>(le64(bytes.view(), 0)));
  }
  const auto chip = std::ranges::find(held->chips, name, [](const auto& one) { return one.first; });
  if (chip == held->chips.end())
    return name == held->rom ? fail(ErrorCode::unsupported, "a cartridge's ROM can't be written", "")
                             : no_file(display_path(name));
  auto written = port->write(held->game, chip->second, bytes, attempts_, only_if);
  if (!written) {
    touched = written.error().code != ErrorCode::busy && written.error().code != ErrorCode::does_not_fit &&
              written.error().code != ErrorCode::unsupported;
    return tl::unexpected(std::move(written.error()));
  }
  touched = written->differing.size() > 1;
  if (written->equal) return {};
  if (written->forgets)
    return fail(
        ErrorCode::io,
        fmt::format("{}: it was written and read back as wanted, and forgot {} when the power was off",
                    display_path(name), counted(written->differing.back(), "byte")),
        chip->second.needs_battery ? "its battery is flat: have it changed, and write the save again"
                                   : "clean the contacts, put it in again, and go on");
  const std::size_t attempts = written->differing.size() - 1;
  if (attempts == 0) return fail(ErrorCode::io, "stopped: nothing was written", "run the same command again");
  return fail(ErrorCode::io,
              fmt::format("{}: after {} {} {}, the first at {:X}", display_path(name),
                          counted(attempts, "attempt"), counted(written->differing.back(), "byte"),
                          written->differing.back() == 1 ? "differs" : "differ", written->first_wrong),
              "clean the contacts, put it in again, and go on");
}

Result<void> CartStore::replace(const std::string& path, ByteView bytes) {
  bool touched = false;
  return write(name_in(path), Blob::copy_of(bytes), nullptr, touched);
}

Result<void> CartStore::create(const std::string& path, ByteView /*bytes*/) {
  BAYSWAP_TRY(const auto there, stat(path));
  if (there)
    return fail(ErrorCode::unsafe, fmt::format("{} exists", display_path(path)), "it is a chip: replace it");
  return fail(ErrorCode::unsupported, fmt::format("the cartridge has no {}", display_path(path)),
              "a cartridge holds its own chips and nothing else");
}

Result<void> CartStore::remove(const std::string& path) {
  return fail(ErrorCode::unsupported, fmt::format("{} is a chip: it can't be removed", display_path(path)),
              "write other bytes into it");
}

Result<void> CartStore::apply(std::span<const FileChange> changes, std::vector<bool>& placed) {
  placed.assign(changes.size(), false);
  for (const FileChange& change : changes)
    if (!change.after) return remove(change.path);
  for (std::size_t i = 0; i < changes.size(); ++i) {
    const FileChange& change = changes[i];
    if (!change.before) return create(change.path, change.after->view());
    bool touched = false;
    const bool runs = file_traits(change.path).runs_on;
    auto done = write(name_in(change.path), *change.after, runs ? nullptr : &*change.before, touched);
    placed[i] = touched;
    if (!done) return done;
  }
  return {};
}

}  // namespace bayswap
