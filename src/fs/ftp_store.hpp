// A folder on an FTP server (RFC 959, RFC 3659) as a store.
#pragma once

#include <bayswap/fs.hpp>

#include <set>

#include "fs/curl.hpp"
#include "fs/remote_common.hpp"

namespace bayswap {

class FtpStore final : public Store {
 public:
  /// `url`: ftp://HOST/FOLDER from the folder of the login on; ftps:// for TLS, which the control connection
  /// turns on (at port 990: which is there from the start). Nothing is asked yet.
  [[nodiscard]] static Result<std::unique_ptr<FtpStore>> open(const std::string& url);
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  /// Under another name first, then renamed. Where the server can't rename over a file, the old one is
  /// renamed just before: cut off there, both are left under other names.
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> add(const std::string& path, ByteView bytes) override;
  Result<void> remove(const std::string& path) override;
  bool may_write(const std::string& /*folder*/) override { return true; }
  FileTraits file_traits(const std::string& /*path*/) const override { return {true, false}; }
  StoreTraits traits() const override { return remote_traits(); }
  std::string display_path(const std::string& path) const override;
  std::string absolute_path(const std::string& path) const override;

 private:
  explicit FtpStore(CurlConnection connection);
  struct Answer {
    CURLcode code = CURLE_OK;
    long reply = 0;
    std::vector<Byte> bytes;
    std::vector<std::string> lines;  // of the control connection
  };
  /// `sent`: commands before the transfer. Without a path, a body and a range nothing is transferred.
  struct Question {
    std::string path;
    bool is_folder = false;
    std::string custom;  // the command that lists
    std::string range;
    std::size_t count = 0;  // bytes that are wanted; 0: no file is read
    std::optional<ByteView> body;
    std::vector<std::string> sent;
  };
  [[nodiscard]] Result<Answer> ask(const Question& question);
  [[nodiscard]] Result<Answer> ask_once(const Question& question, bool anew);
  [[nodiscard]] Result<Answer> command(const std::vector<std::string>& commands);
  [[nodiscard]] Result<void> store_bytes(const std::string& path, ByteView bytes);
  [[nodiscard]] Result<void> make_folders(const std::string& path);
  [[nodiscard]] Result<void> check_path(const std::string& path) const;
  [[nodiscard]] std::string on_server(const std::string& path) const;
  [[nodiscard]] tl::unexpected<Error> refused(const Answer& answer, const std::string& path,
                                              std::string_view doing) const;

  CurlConnection curl_;
  std::string shown_;
  std::set<std::string> made_;  // folders that are there
  bool has_facts_ = true;       // MLSD and MLST; found out
};

}  // namespace bayswap
