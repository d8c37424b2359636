// A cartridge as a place: its ROM and its chips as files. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/cart.hpp>
#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>

#include <map>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The prefix of a cartridge's path: "cart:/dev/ttyACM0" is the cartridge in the reader on that line.
constexpr std::string_view cart_prefix = "cart:";
[[nodiscard]] bool is_cart_path(std::string_view path);
/// Returns the line of a path: "/dev/ttyACM0" of "cart:/dev/ttyACM0/MOTH COURIER [A99P].sav". Names of files
/// contain no '/'.
[[nodiscard]] std::string device_of_cart(std::string_view path);

/// Callbacks for the progress of reads and writes.
struct CartEvents {
  std::function<void(const CartProgress&)> progress;
  std::function<void(int attempt, std::size_t differing)> attempt;
  std::function<bool()> is_cancelled;
};

/// The cartridge in a reader. Its root contains the ROM, a file for each chip, and one for a clock: "TITLE
/// [CODE].gba", ".sav", ".rtc", with the platform's usual extensions and the layouts of the bay template
/// "cartridge". Chips are read twice, and a read fails with `damaged` if the two differ. A write is read back
/// and repeated; a failed one can leave neither the old nor the new bytes (FileTraits::may_tear). The ROM
/// can't be written, and nothing can be removed. The line is opened on first use and shared within the
/// process. Bytes are cached until another cartridge is inserted. Not for several threads at once.
class CartStore final : public Store {
 public:
  /// `root`: "cart:" and the line.
  explicit CartStore(std::string root);
  ~CartStore() override;

  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> remove(const std::string& path) override;
  Result<void> apply(std::span<const FileChange> changes, std::vector<bool>& placed) override;
  bool may_write(const std::string& /*folder*/) override { return true; }
  StoreTraits traits() const override;
  FileTraits file_traits(const std::string& path) const override;
  std::string display_path(const std::string& path) const override;
  std::string absolute_path(const std::string& path) const override;
  std::string root() const override { return root_; }

  /// Returns the game. Fails with `not_found` if there is no reader, or no cartridge in it.
  [[nodiscard]] Result<CartIdentity> game();
  /// Returns the chips, each with the name of its file.
  [[nodiscard]] Result<std::vector<std::pair<std::string, CartChip>>> chips();
  /// Returns the name of the ROM's file; empty if there is no ROM.
  [[nodiscard]] Result<std::string> rom_name();
  /// Returns the open line; the store owns it.
  [[nodiscard]] Result<CartPort*> port();
  /// Sets what the user knows of the cartridge. Call it before the first use.
  void say(std::vector<ChipFact> chips, std::optional<std::uint16_t> millivolts);
  void set_events(CartEvents events) {
    events_ = std::move(events);
    events_set_ = false;
  }
  /// Sets how often a write is tried.
  void set_attempts(int attempts) { attempts_ = attempts; }

 private:
  struct Inside;
  struct Held;
  [[nodiscard]] Result<Held*> look();
  [[nodiscard]] Result<Blob> whole(Held& held, const std::string& name);
  [[nodiscard]] Result<Blob> rom_range(Held& held, std::uint64_t at, std::size_t count);
  [[nodiscard]] Result<void> write(const std::string& name, const Blob& bytes, const Blob* only_if,
                                   bool& touched);
  [[nodiscard]] static std::string name_in(const std::string& path);

  std::string root_;
  std::vector<ChipFact> said_;
  std::optional<std::uint16_t> millivolts_;
  CartEvents events_;
  bool events_set_ = false;
  int attempts_ = 5;
  std::shared_ptr<CartPort> port_;
  std::unique_ptr<Held> held_;
};

/// Files by absolute path: "cart:..." is on the cartridge in that reader, a URL on a server, everything else
/// on the local disk. Not for several threads at once.
class AnyStore final : public Store {
 public:
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> remove(const std::string& path) override;
  Result<bool> remove_empty_folder(const std::string& path) override;
  /// Applies the changes together if all are on the disk, on one server or on one cartridge, otherwise one
  /// file after the other.
  Result<void> apply(std::span<const FileChange> changes, std::vector<bool>& placed) override;
  bool may_write(const std::string& folder) override;
  StoreTraits traits() const override { return {true, true}; }
  FileTraits file_traits(const std::string& path) const override;
  std::string display_path(const std::string& path) const override;
  std::string absolute_path(const std::string& path) const override;
  void stay_within(const std::string& root) override;

 private:
  struct Place {
    Store* store;
    std::string path;  // as that store knows it
  };
  [[nodiscard]] Place of(const std::string& path) const;

  mutable LocalStore disk_;
  mutable std::map<std::string, std::unique_ptr<Store>> others_;  // by line or server
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
