// A store that fails at its n-th operation that could change something, or reads back wrongly.
#pragma once

#include <bayswap/fs.hpp>

namespace bayswap::test {

class FailingStore final : public Store {
 public:
  enum class Mode {
    error,       // the operation fails and changes nothing
    error_late,  // the operation is done, and reported as failed
    intruder,    // somebody else writes the file first, and the operation fails
    silent,      // the operation is reported as done, and was not
  };

  explicit FailingStore(Store& below) : below_(below) {}
  void fail_at(int operation, Mode mode = Mode::error) {
    countdown_ = operation;
    mode_ = mode;
  }
  [[nodiscard]] int operations() const { return operations_; }

  Result<std::optional<FileInfo>> stat(const std::string& path) override { return below_.stat(path); }
  Result<std::vector<FileInfo>> list(const std::string& folder) override { return below_.list(folder); }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    return below_.read_range(path, at, count);
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    return change([&] { return below_.replace(path, bytes); });
  }
  Result<void> create(const std::string& path, ByteView bytes) override {
    if (mode_ == Mode::intruder && countdown_ == 1) (void)below_.create(path, Blob::filled(5, 7).view());
    return change([&] { return below_.create(path, bytes); });
  }
  Result<void> remove(const std::string& path) override {
    return change([&] { return below_.remove(path); });
  }
  bool may_write(const std::string& folder) override { return below_.may_write(folder); }
  std::string display_path(const std::string& path) const override { return below_.display_path(path); }

 private:
  template <class Operation>
  Result<void> change(Operation&& operation) {
    ++operations_;
    if (countdown_ == 0 || --countdown_ != 0) return operation();
    if (mode_ == Mode::silent) return {};
    if (mode_ == Mode::error_late) (void)operation();
    return fail(ErrorCode::io, "the disk said no", "this is a test");
  }

  Store& below_;
  int countdown_ = 0;
  int operations_ = 0;
  Mode mode_ = Mode::error;
};

}  // namespace bayswap::test
