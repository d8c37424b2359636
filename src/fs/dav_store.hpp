// A folder on a WebDAV server (RFC 4918) as a store.
#pragma once

#include <bayswap/fs.hpp>

#include "fs/remote_common.hpp"
#include "fs/url.hpp"
#include "fs/wire_http.hpp"

namespace bayswap {

class DavStore final : public Store {
 public:
  /// `url`: of the folder. Nothing is asked yet.
  [[nodiscard]] static Result<std::unique_ptr<DavStore>> open(const std::string& url);
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  /// Under another name first, then moved: a cut leaves the old file.
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> add(const std::string& path, ByteView bytes) override;
  Result<void> remove(const std::string& path) override;
  bool may_write(const std::string& /*folder*/) override { return true; }
  StoreTraits traits() const override { return remote_traits(); }
  std::string display_path(const std::string& path) const override;
  std::string absolute_path(const std::string& path) const override;

  [[nodiscard]] HttpWire& wire() { return *wire_; }

 private:
  DavStore(const Url& url, std::unique_ptr<HttpWire> wire);
  [[nodiscard]] std::string url_of(const std::string& path) const;
  [[nodiscard]] Result<std::vector<FileInfo>> propfind(const std::string& path, bool with_children);
  /// PUT; makes the folders that are missing. `only_new`: fails with `unsafe` if it exists.
  [[nodiscard]] Result<void> put(const std::string& path, ByteView bytes, bool only_new);
  [[nodiscard]] Result<void> make_folders(const std::string& path);
  [[nodiscard]] tl::unexpected<Error> refused(const HttpAnswer& answer, const std::string& path,
                                              std::string_view doing) const;

  Url place_;
  std::string url_;    // encoded, without a '/' at its end
  std::string shown_;  // the same for people
  std::unique_ptr<HttpWire> wire_;
};

}  // namespace bayswap
