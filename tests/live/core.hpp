// An emulation core, loaded through its public C interface.
#pragma once

#include <bayswap/base.hpp>

#include <memory>
#include <optional>
#include <string>

namespace bayswap::test {

enum class CoreMemory : unsigned { battery = 0, clock = 1 };

/// One game in one core. Only one at a time: the interface has no handle.
class Core {
 public:
  /// The library of that name where Debian's packages put it; nothing where it is not installed.
  [[nodiscard]] static std::optional<std::string> find(const std::string& name);

  Core(const std::string& library, const Blob& rom, const std::string& rom_name);
  Core(const Core&) = delete;
  Core& operator=(const Core&) = delete;
  ~Core();

  [[nodiscard]] bool is_running() const;
  /// What a front end would keep as the save file.
  [[nodiscard]] Blob memory(CoreMemory which) const;
  /// What a front end does with a save file before the first frame, when a core may not know its chip yet and
  /// have more room than it needs. False where the file is the larger one.
  [[nodiscard]] bool load(CoreMemory which, const Blob& file);
  void run(int frames);
  /// Starts the game anew, as the button on the console does.
  void reset();
  /// A snapshot of this moment, as the core itself makes one.
  [[nodiscard]] Blob state() const;
  /// False where the core refuses it.
  [[nodiscard]] bool load_state(const Blob& state);

 private:
  struct Api;
  std::unique_ptr<Api> api_;
};

}  // namespace bayswap::test
