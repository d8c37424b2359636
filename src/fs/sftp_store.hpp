// A folder of a machine that is reached by SSH (SFTP, version 3) as a store.
#pragma once

#include <bayswap/fs.hpp>

#include <chrono>

#include "fs/cut_off.hpp"
#include "fs/remote_common.hpp"
#include "fs/ssh_library.hpp"

namespace bayswap {

class SftpStore final : public Store {
 public:
  /// `url`: sftp://USER@HOST/FOLDER, or sftp://USER@HOST/~/FOLDER from the folder of the login on. Nothing is
  /// asked yet. The host's key has to be among the known hosts; who asks is shown by an agent, a key without
  /// a passphrase, or a password out of the environment or netrc. Fails with `unsupported` if libssh is not
  /// installed, `bad_usage` if the URL is none or has a password in it. A call that takes longer than
  /// `patience`, and a second for each 16 KiB that have come or gone, fails.
  [[nodiscard]] static Result<std::unique_ptr<SftpStore>> open(
      const std::string& url, std::chrono::milliseconds patience = std::chrono::seconds(60));
  ~SftpStore() override;
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  /// Under another name first, then renamed; at once where the server can (OpenSSH's can).
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> add(const std::string& path, ByteView bytes) override;
  Result<void> remove(const std::string& path) override;
  bool may_write(const std::string& /*folder*/) override { return true; }
  StoreTraits traits() const override { return remote_traits(); }
  std::string display_path(const std::string& path) const override;
  std::string absolute_path(const std::string& path) const override;

 private:
  // What is asked of the server by one call from outside, however many questions that takes.
  class Call;
  SftpStore(const SshLibrary& library, Url url, std::chrono::milliseconds patience);
  /// The connection, made when it is first needed, and again when it was lost.
  [[nodiscard]] Result<sftp_session> session();
  [[nodiscard]] Result<void> connect();
  [[nodiscard]] Result<void> check_host();
  void hang_up();
  [[nodiscard]] std::string on_server(const std::string& path) const;
  [[nodiscard]] FileInfo info_of(const sftp_attributes_struct& attributes, std::string name) const;
  /// `flags`: besides writing.
  [[nodiscard]] Result<void> write_bytes(const std::string& path, ByteView bytes, int flags);
  [[nodiscard]] Result<void> make_folders(const std::string& path);
  [[nodiscard]] tl::unexpected<Error> refused(const std::string& path, std::string_view doing);

  const SshLibrary* ssh_;
  Url url_;
  std::string shown_;
  std::chrono::milliseconds patience_;
  CutOff cut_off_;
  CutOff::Time call_ends_;
  int calls_ = 0;  // one within another
  ssh_session session_ = nullptr;
  sftp_session sftp_ = nullptr;
  bool is_lost_ = false;  // hung up before the next use: files of it may still be held
};

}  // namespace bayswap
