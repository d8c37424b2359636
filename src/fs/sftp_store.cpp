#include "fs/sftp_store.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr long ssh_connect_seconds = 20;
constexpr std::size_t max_sftp_entries = 200000;
constexpr std::size_t max_piece = 32768;  // what every server takes at once
constexpr mode_t new_file = 0666;
constexpr mode_t new_folder = 0777;
constexpr std::size_t slow_bytes_a_second = 16384;

}  // namespace

class SftpStore::Call {
 public:
  explicit Call(SftpStore& store) : store_(store) {
    if (store_.calls_++ > 0) return;
    store_.call_ends_ = std::chrono::steady_clock::now() + store_.patience_;
    if (store_.session_ != nullptr)
      store_.cut_off_.start(store_.ssh_->socket(store_.session_), store_.call_ends_);
  }
  ~Call() {
    if (--store_.calls_ == 0) store_.cut_off_.stop();
  }
  Call(const Call&) = delete;
  Call& operator=(const Call&) = delete;
  // Bytes that have come or gone are worth some time.
  void moved(std::size_t bytes) {
    store_.call_ends_ += std::chrono::microseconds(1000000 * bytes / slow_bytes_a_second);
    store_.cut_off_.move(store_.call_ends_);
  }

 private:
  SftpStore& store_;
};

Result<std::unique_ptr<SftpStore>> SftpStore::open(const std::string& url,
                                                   std::chrono::milliseconds patience) {
  auto parsed = url_from(url);
  if (!parsed) return fail(ErrorCode::bad_usage, "this is not a URL", "write it as sftp://USER@HOST/FOLDER");
  if (parsed->has_password)
    return fail(ErrorCode::bad_usage, "a password in a URL is seen by everybody on this machine",
                "use a key, or put it into ~/.netrc, or into the environment as BAYSWAP_PASSWORD");
  const SshLibrary* library = SshLibrary::get();
  if (library == nullptr)
    return fail(ErrorCode::unsupported, "SFTP needs libssh, which is not installed",
                "install the package libssh-4");
  return std::unique_ptr<SftpStore>(new SftpStore(*library, *std::move(parsed), patience));
}

SftpStore::SftpStore(const SshLibrary& library, Url url, std::chrono::milliseconds patience)
    : ssh_(&library), url_(std::move(url)), shown_(shown_url(url_)), patience_(patience) {}

SftpStore::~SftpStore() {
  hang_up();
}

void SftpStore::hang_up() {
  cut_off_.stop();  // the socket closes
  if (sftp_ != nullptr) ssh_->sftp_end(sftp_);
  if (session_ != nullptr) {
    ssh_->disconnect(session_);
    ssh_->free(session_);
  }
  sftp_ = nullptr;
  session_ = nullptr;
  is_lost_ = false;
}

std::string SftpStore::absolute_path(const std::string& path) const {
  return whole_address(url_, path);
}

std::string SftpStore::display_path(const std::string& path) const {
  return is_root(path) ? shown_ : join_path(shown_, path);
}

std::string SftpStore::on_server(const std::string& path) const {
  constexpr std::string_view of_login = "/~";
  std::string base = url_.path.empty() ? "/" : url_.path;
  if (base == of_login) base = ".";
  if (base.starts_with("/~/")) base = base.substr(of_login.size() + 1);
  return is_root(path) ? base : join_path(base, path);
}

Result<void> SftpStore::check_host() {
  switch (ssh_->is_known_server(session_)) {
    case SSH_KNOWN_HOSTS_OK:
      return {};
    case SSH_KNOWN_HOSTS_CHANGED:
    case SSH_KNOWN_HOSTS_OTHER:
      return fail(
          ErrorCode::unsafe,
          fmt::format("{} shows another key than the one that is known of it: this may not be your server",
                      url_.host),
          "if the server was set up anew, remove its old line from ~/.ssh/known_hosts");
    default:
      return fail(ErrorCode::unsafe, fmt::format("the key of {} is not known on this machine", url_.host),
                  "sign in there once with ssh, compare the key it shows, and accept it");
  }
}

Result<void> SftpStore::connect() {
  session_ = ssh_->make();
  if (session_ == nullptr) return fail(ErrorCode::io, "libssh has no memory", "end other programs");
  const auto set = [&](ssh_options_e option, const void* value) {
    (void)ssh_->options_set(session_, option, value);
  };
  const long seconds = ssh_connect_seconds;
  const Credentials who = credentials_for(url_);
  set(SSH_OPTIONS_HOST, url_.host.c_str());
  const std::string folder = with_home("~/.ssh");
  set(SSH_OPTIONS_SSH_DIR, folder.c_str());
  set(SSH_OPTIONS_TIMEOUT, &seconds);
  (void)ssh_->parse_config(session_, (folder + "/config").c_str());
  if (!who.user.empty()) set(SSH_OPTIONS_USER, who.user.c_str());
  if (url_.port != 0) set(SSH_OPTIONS_PORT, &url_.port);
  if (ssh_->connect(session_) != SSH_OK)
    return fail(ErrorCode::io, fmt::format("{}: {}", url_.host, printable(ssh_->error(session_))),
                "see that the network and the server are there, and try again");
  cut_off_.start(ssh_->socket(session_), call_ends_);
  BAYSWAP_CHECK(check_host());
  int in = ssh_->auth_key(session_, nullptr, nullptr);
  if (in != SSH_AUTH_SUCCESS && !who.password.empty())
    in = ssh_->auth_password(session_, nullptr, who.password.c_str());
  if (in != SSH_AUTH_SUCCESS)
    return fail(ErrorCode::io, fmt::format("{}: the server wants another key, name or password", shown_),
                "load your key into the agent (ssh-add), or put the password into ~/.netrc, or into the "
                "environment as BAYSWAP_PASSWORD");
  sftp_ = ssh_->sftp_make(session_);
  if (sftp_ == nullptr || ssh_->sftp_start(sftp_) != SSH_OK)
    return fail(ErrorCode::io, fmt::format("{}: the server has no SFTP", url_.host),
                "turn it on in the server's settings");
  return {};
}

Result<sftp_session> SftpStore::session() {
  if (is_lost_ || (session_ != nullptr && ssh_->is_connected(session_) == 0)) hang_up();
  // A call whose time is over is not begun again.
  if (sftp_ == nullptr && calls_ > 0 && std::chrono::steady_clock::now() >= call_ends_)
    return fail(ErrorCode::io, fmt::format("{}: the server takes too long to answer", shown_),
                "see that the network and the server are there, and try again");
  if (sftp_ == nullptr) {
    auto connected = connect();
    if (!connected) {
      hang_up();
      return tl::unexpected(connected.error());
    }
  }
  return sftp_;
}

tl::unexpected<Error> SftpStore::refused(const std::string& path, std::string_view doing) {
  const std::string shown = display_path(path);
  const int code = sftp_ == nullptr ? SSH_FX_CONNECTION_LOST : ssh_->sftp_error(sftp_);
  switch (code) {
    case SSH_FX_NO_SUCH_FILE:
    case SSH_FX_NO_SUCH_PATH:
      return not_there(shown);
    case SSH_FX_PERMISSION_DENIED:
    case SSH_FX_WRITE_PROTECT:
      return not_allowed(shown, doing);
    case SSH_FX_FAILURE:
      return fail(ErrorCode::io, fmt::format("{}: {} failed on the server", shown, doing),
                  "see that its disk has room and is writable");
    default: {
      const std::string why = session_ == nullptr ? "" : printable(ssh_->error(session_));
      is_lost_ = true;  // what is left of it may be out of step
      return fail(
          ErrorCode::io,
          fmt::format("{}: {}: the connection was lost{}{}", shown, doing, why.empty() ? "" : ": ", why),
          "see that the network and the server are there, and try again");
    }
  }
}

FileInfo SftpStore::info_of(const sftp_attributes_struct& attributes, std::string name) const {
  FileInfo info;
  info.name = std::move(name);
  info.kind = FileInfo::Kind::other;
  if ((attributes.flags & SSH_FILEXFER_ATTR_PERMISSIONS) != 0) {
    if (S_ISREG(attributes.permissions)) info.kind = FileInfo::Kind::file;
    if (S_ISDIR(attributes.permissions)) info.kind = FileInfo::Kind::folder;
    info.link = S_ISLNK(attributes.permissions);
  }
  if (info.kind != FileInfo::Kind::file) return info;
  info.size_bytes = attributes.size;
  info.modified = attributes.mtime;
  return info;
}

Result<std::optional<FileInfo>> SftpStore::stat(const std::string& path) {
  const Call call(*this);
  BAYSWAP_TRY(sftp_session sftp, session());
  const std::unique_ptr<sftp_attributes_struct, void (*)(sftp_attributes)> found(
      ssh_->stat(sftp, on_server(path).c_str()), ssh_->attributes_free);
  if (found) return std::optional<FileInfo>(info_of(*found, std::string(name_of(path))));
  auto error = refused(path, "looking at it");
  if (error.value().code == ErrorCode::not_found) return std::optional<FileInfo>{};
  return error;
}

Result<std::vector<FileInfo>> SftpStore::list(const std::string& folder) {
  Call call(*this);
  BAYSWAP_TRY(sftp_session sftp, session());
  std::unique_ptr<sftp_dir_struct, int (*)(sftp_dir)> opened(ssh_->opendir(sftp, on_server(folder).c_str()),
                                                             ssh_->closedir);
  if (!opened) return refused(folder, "listing it");
  std::vector<FileInfo> all;
  for (;;) {
    const std::unique_ptr<sftp_attributes_struct, void (*)(sftp_attributes)> entry(
        ssh_->readdir(sftp, opened.get()), ssh_->attributes_free);
    if (!entry) break;
    constexpr std::size_t worth = 256;
    call.moved(worth);
    std::string name = entry->name != nullptr ? entry->name : "";
    if (name == "." || name == "..") continue;
    BAYSWAP_CHECK(check_listed_name(name, display_path(folder)));
    if (all.size() == max_sftp_entries)
      return fail(ErrorCode::damaged,
                  fmt::format("{}: the server's list does not end", display_path(folder)));
    all.push_back(info_of(*entry, std::move(name)));
  }
  if (ssh_->dir_eof(opened.get()) == 0) return refused(folder, "listing it");
  // What follows may end the session, and nothing of it may be open then.
  opened.reset();
  for (FileInfo& info : all) {
    if (!info.link) continue;
    // What it leads to, if to anything.
    auto target = stat(is_root(folder) ? info.name : join_path(folder, info.name));
    if (!target && (is_lost_ || sftp_ == nullptr)) return tl::unexpected(std::move(target.error()));
    if (!target || !*target) continue;
    info = **std::move(target);
    info.link = true;
  }
  sort_by(all, &FileInfo::name);
  return all;
}

Result<Blob> SftpStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  if (count == 0) return Blob();
  Call call(*this);
  BAYSWAP_TRY(sftp_session sftp, session());
  std::unique_ptr<sftp_file_struct, int (*)(sftp_file)> file(
      ssh_->open(sftp, on_server(path).c_str(), O_RDONLY, 0), ssh_->close);
  if (!file) return refused(path, "reading it");
  if (at != 0 && ssh_->seek(file.get(), at) != 0) return refused(path, "reading it");
  std::vector<Byte> bytes;
  while (bytes.size() < count) {
    const std::size_t had = bytes.size();
    bytes.resize(had + std::min(max_piece, count - had));
    const ssize_t got = ssh_->read(file.get(), bytes.data() + had, bytes.size() - had);
    if (got < 0) {
      auto error = refused(path, "reading it");
      file.reset();  // what follows may end the session
      if (is_lost_) return error;
      const auto there = stat(path);
      if (there && *there && (*there)->kind == FileInfo::Kind::folder)
        return fail(ErrorCode::bad_usage, fmt::format("{} is a folder", display_path(path)));
      return error;
    }
    bytes.resize(had + static_cast<std::size_t>(got));
    if (got == 0) break;
    call.moved(static_cast<std::size_t>(got));
  }
  return Blob::copy_of(bytes);
}

Result<void> SftpStore::make_folders(const std::string& path) {
  const std::string folder = folder_of(path);
  if (is_root(folder)) return {};
  for (std::size_t at = 0; at != std::string::npos;) {
    at = folder.find('/', at + 1);
    BAYSWAP_TRY(sftp_session sftp, session());
    (void)ssh_->mkdir(sftp, on_server(folder.substr(0, at)).c_str(), new_folder);
  }
  return {};
}

Result<void> SftpStore::write_bytes(const std::string& path, ByteView bytes, int flags) {
  Call call(*this);
  BAYSWAP_TRY(sftp_session sftp, session());
  const auto open = [&] {
    return ssh_->open(sftp, on_server(path).c_str(), O_WRONLY | O_CREAT | flags, new_file);
  };
  sftp_file file = open();
  if (file == nullptr && ssh_->sftp_error(sftp) == SSH_FX_NO_SUCH_FILE) {
    BAYSWAP_CHECK(make_folders(path));
    BAYSWAP_TRY(sftp, session());  // it may be another one by now
    file = open();
  }
  if (file == nullptr) return refused(path, "writing it");
  bool good = true;
  for (std::size_t at = 0; good && at < bytes.size();) {
    const ssize_t put = ssh_->write(file, bytes.data() + at, std::min(max_piece, bytes.size() - at));
    good = put > 0;
    if (!good) break;
    at += static_cast<std::size_t>(put);
    call.moved(static_cast<std::size_t>(put));
  }
  // Not every server has it; one that has it and fails has not kept the bytes.
  if (good) (void)ssh_->sync(file);
  auto error = good ? std::optional<Error>() : std::optional<Error>(refused(path, "writing it").value());
  if (ssh_->close(file) != SSH_OK && !error) error = refused(path, "writing it").value();
  if (error) return tl::unexpected(*error);
  return {};
}

Result<void> SftpStore::replace(const std::string& path, ByteView bytes) {
  BAYSWAP_CHECK(check_inside(path, shown_));
  const Call call(*this);
  const std::string aside = aside_of(path);
  const auto clean_up = [&] {
    if (sftp_ != nullptr && !is_lost_) (void)ssh_->unlink(sftp_, on_server(aside).c_str());
  };
  auto written = write_bytes(aside, bytes, O_EXCL);
  if (!written) {
    clean_up();
    return written;
  }
  BAYSWAP_TRY(sftp_session sftp, session());
  if (ssh_->rename(sftp, on_server(aside).c_str(), on_server(path).c_str()) == SSH_OK) return {};
  // A server of version 3 may refuse to rename over a file.
  if (ssh_->sftp_error(sftp) == SSH_FX_FAILURE || ssh_->sftp_error(sftp) == SSH_FX_FILE_ALREADY_EXISTS) {
    const std::string old = aside_of(path);
    if (ssh_->rename(sftp, on_server(path).c_str(), on_server(old).c_str()) == SSH_OK) {
      if (ssh_->rename(sftp, on_server(aside).c_str(), on_server(path).c_str()) == SSH_OK) {
        (void)ssh_->unlink(sftp, on_server(old).c_str());
        return {};
      }
      (void)ssh_->rename(sftp, on_server(old).c_str(), on_server(path).c_str());
    }
  }
  auto error = refused(path, "giving it its name");
  clean_up();
  return error;
}

Result<void> SftpStore::create(const std::string& path, ByteView bytes) {
  BAYSWAP_CHECK(check_inside(path, shown_));
  const Call call(*this);
  BAYSWAP_TRY(const auto there, stat(path));
  if (there) return there_already(display_path(path));
  return replace(path, bytes);
}

Result<void> SftpStore::add(const std::string& path, ByteView bytes) {
  BAYSWAP_CHECK(check_inside(path, shown_));
  const Call call(*this);
  BAYSWAP_TRY(const auto there, stat(path));
  if (there) return there_already(display_path(path));
  auto written = write_bytes(path, bytes, O_EXCL);
  if (!written && sftp_ != nullptr && !is_lost_) (void)ssh_->unlink(sftp_, on_server(path).c_str());
  return written;
}

Result<void> SftpStore::remove(const std::string& path) {
  BAYSWAP_CHECK(check_inside(path, shown_));
  const Call call(*this);
  BAYSWAP_TRY(sftp_session sftp, session());
  if (ssh_->unlink(sftp, on_server(path).c_str()) != 0) return refused(path, "removing it");
  return {};
}

}  // namespace bayswap
