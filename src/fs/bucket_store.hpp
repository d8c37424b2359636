// A prefix of a bucket in an S3-style object store as a store. Objects have no folders: one is there while
// something is in it.
#pragma once

#include <bayswap/fs.hpp>

#include "fs/remote_common.hpp"
#include "fs/wire_http.hpp"

namespace bayswap {

class BucketStore final : public Store {
 public:
  /// `url`: s3+https://HOST/BUCKET/PREFIX?region=NAME, or s3+http. Nothing is asked yet. Fails with
  /// `bad_usage` without a bucket.
  [[nodiscard]] static Result<std::unique_ptr<BucketStore>> open(const std::string& url);
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  /// One PUT: the store keeps the old object until the new one is whole.
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
  BucketStore(const Url& url, std::unique_ptr<HttpWire> wire);
  [[nodiscard]] std::string key_of(const std::string& path) const;
  [[nodiscard]] std::string url_of(const std::string& path) const;
  [[nodiscard]] Result<std::vector<FileInfo>> below(const std::string& path, bool is_one_enough);
  [[nodiscard]] Result<void> put(const std::string& path, ByteView bytes, bool only_new);
  [[nodiscard]] tl::unexpected<Error> refused(const HttpAnswer& answer, const std::string& path,
                                              std::string_view doing) const;

  Url place_;
  std::string bucket_url_;  // as http or https, encoded
  std::string prefix_;      // of all keys, with its '/'; empty: none
  std::string shown_;
  std::unique_ptr<HttpWire> wire_;
};

}  // namespace bayswap
