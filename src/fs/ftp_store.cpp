#include "fs/ftp_store.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/try.hpp"
#include "fs/bucket_listing.hpp"
#include "fs/ftp_listing.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_ftp_listing = std::size_t{64} << 20;
constexpr int implicit_port = 990;

// Replies of RFC 959.
enum Reply : long {
  no_such_command = 500,
  bad_parameters = 501,
  not_implemented = 502,
  not_for_that_parameter = 504,
  not_logged_in = 530,
  no_file_now = 450,  // also what LIST of a folder that is not there can end with
  no_file = 550,
  no_room_now = 452,
  no_room = 552
};

bool is_unknown_command(long reply) {
  return reply == no_such_command || reply == bad_parameters || reply == not_implemented ||
         reply == not_for_that_parameter;
}

}  // namespace

Result<std::unique_ptr<FtpStore>> FtpStore::open(const std::string& url) {
  BAYSWAP_TRY(CurlConnection connection, CurlConnection::open(url));
  return std::unique_ptr<FtpStore>(new FtpStore(std::move(connection)));
}

FtpStore::FtpStore(CurlConnection connection)
    : curl_(std::move(connection)), shown_(shown_url(curl_.url())) {}

std::string FtpStore::absolute_path(const std::string& path) const {
  return whole_address(curl_.url(), path);
}

std::string FtpStore::display_path(const std::string& path) const {
  return is_root(path) ? shown_ : join_path(shown_, path);
}

// From the folder of the login on.
std::string FtpStore::on_server(const std::string& path) const {
  std::string base = curl_.url().path.empty() ? "" : curl_.url().path.substr(1);
  if (is_root(path)) return base;
  return base.empty() ? path : base + "/" + path;
}

// A line end in a name would be the next command.
Result<void> FtpStore::check_path(const std::string& path) const {
  if (!is_root(path)) BAYSWAP_CHECK(check_inside(path, shown_));
  const std::string whole = on_server(path);
  if (std::ranges::none_of(whole, [](char c) { return static_cast<unsigned char>(c) < ' '; })) return {};
  return fail(ErrorCode::unsafe, "a file's name has control characters, which FTP can't carry",
              "give it another name");
}

// After a refused transfer over TLS, libcurl may take a late reply for that to its next command: then the
// question is asked once more, over a new connection.
Result<FtpStore::Answer> FtpStore::ask(const Question& question) {
  auto answer = ask_once(question, false);
  if (!answer || (answer->code != CURLE_FTP_WEIRD_PASV_REPLY && answer->code != CURLE_WEIRD_SERVER_REPLY))
    return answer;
  BAYSWAP_TRY(answer, ask_once(question, true));
  if (answer->code == CURLE_FTP_WEIRD_PASV_REPLY || answer->code == CURLE_WEIRD_SERVER_REPLY)
    return curl_.no_answer(answer->code);
  return answer;
}

Result<FtpStore::Answer> FtpStore::ask_once(const Question& question, bool anew) {
  Answer answer;
  CurlConnection::Transfer transfer;
  const bool is_secure = curl_.url().scheme == "ftps";
  const bool is_implicit = is_secure && curl_.url().port == implicit_port;
  Url place = curl_.url();
  place.path = "/" + on_server(question.path);
  transfer.url = address_of(place, is_implicit ? "ftps" : "ftp");
  if (question.is_folder && !transfer.url.ends_with('/')) transfer.url += '/';
  transfer.body = question.body;
  if (question.is_folder) transfer.limit = max_ftp_listing;
  if (question.count > 0) {
    transfer.limit = answer_limit(0, question.count);
    transfer.may_cut = transfer.limit < max_answer;
  }
  transfer.on_header = [&](std::string_view line) {
    constexpr std::size_t many = 10000;
    if (answer.lines.size() < many) answer.lines.emplace_back(line);
  };
  CURL* const easy = curl_.begin(transfer);
  const auto& set = curl_.library().easy_setopt;
  const CurlList commands(curl_.library(), question.sent);
  const Credentials who = curl_.credentials();
  if (easy != nullptr) {
    set(easy, CURLOPT_PROTOCOLS_STR, "ftp,ftps");
    if (is_secure) set(easy, CURLOPT_USE_SSL, static_cast<long>(CURLUSESSL_ALL));
    if (!who.password.empty()) {
      set(easy, CURLOPT_USERNAME, who.user.c_str());
      set(easy, CURLOPT_PASSWORD, who.password.c_str());
    }
    set(easy, CURLOPT_FTP_FILEMETHOD, static_cast<long>(CURLFTPMETHOD_NOCWD));
    set(easy, CURLOPT_FTP_SKIP_PASV_IP, 1L);
    if (anew) set(easy, CURLOPT_FRESH_CONNECT, 1L);
    if (!question.custom.empty()) set(easy, CURLOPT_CUSTOMREQUEST, question.custom.c_str());
    if (!question.range.empty()) set(easy, CURLOPT_RANGE, question.range.c_str());
    if (!question.sent.empty()) {
      set(easy, CURLOPT_QUOTE, commands.get());
      set(easy, CURLOPT_NOBODY, 1L);
    }
  }
  BAYSWAP_TRY(answer.code, curl_.perform(transfer));
  if (easy != nullptr) curl_.library().easy_getinfo(easy, CURLINFO_RESPONSE_CODE, &answer.reply);
  answer.bytes = std::move(transfer.answer);
  if (answer.code == CURLE_LOGIN_DENIED || answer.reply == not_logged_in)
    return fail(
        ErrorCode::io, fmt::format("{}: wrong name or password", shown_),
        is_secure || curl_.url().is_this_machine()
            ? "put them into ~/.netrc, or into the environment as BAYSWAP_USER and BAYSWAP_PASSWORD"
            : "use ftps://, or, in a network that is yours alone, set BAYSWAP_OPEN_PASSWORD=1 to have "
              "the password sent over an open connection");
  switch (answer.code) {
    case CURLE_OK:
    case CURLE_QUOTE_ERROR:
    case CURLE_REMOTE_FILE_NOT_FOUND:
    case CURLE_REMOTE_ACCESS_DENIED:
    case CURLE_FTP_COULDNT_RETR_FILE:
    case CURLE_FTP_COULDNT_USE_REST:
    case CURLE_BAD_DOWNLOAD_RESUME:
    case CURLE_UPLOAD_FAILED:
    case CURLE_REMOTE_DISK_FULL:
    case CURLE_PARTIAL_FILE:
    case CURLE_FTP_WEIRD_PASV_REPLY:
    case CURLE_WEIRD_SERVER_REPLY:
      return answer;  // the server's own word on it
    default:
      return curl_.no_answer(answer.code);
  }
}

Result<FtpStore::Answer> FtpStore::command(const std::vector<std::string>& commands) {
  Question question;
  question.is_folder = true;
  question.sent = commands;
  return ask(question);
}

tl::unexpected<Error> FtpStore::refused(const Answer& answer, const std::string& path,
                                        std::string_view doing) const {
  const std::string shown = display_path(path);
  if (answer.reply == no_room || answer.reply == no_room_now || answer.code == CURLE_REMOTE_DISK_FULL)
    return server_full(shown);
  if (answer.reply == no_file || answer.code == CURLE_REMOTE_ACCESS_DENIED) return not_allowed(shown, doing);
  return fail(ErrorCode::io, fmt::format("{}: {}: the server answers {}", shown, doing, answer.reply),
              "try again; if it stays so, look at the server's log");
}

Result<std::optional<FileInfo>> FtpStore::stat(const std::string& path) {
  BAYSWAP_CHECK(check_path(path));
  if (is_root(path)) {
    const auto there = list(".");
    if (!there && there.error().code == ErrorCode::not_found) return std::optional<FileInfo>{};
    if (!there) return tl::unexpected(there.error());
    FileInfo root;
    root.kind = FileInfo::Kind::folder;
    return root;
  }
  if (has_facts_) {
    BAYSWAP_TRY(const Answer answer, command({"MLST " + on_server(path)}));
    if (answer.code == CURLE_OK) {
      for (const std::string& line : answer.lines) {
        if (!line.starts_with(' ') && line.find("; ") == std::string::npos) continue;
        auto info = entry_of_facts(line.starts_with("250-") ? std::string_view(line).substr(4) : line);
        if (!info) {
          // A folder may call itself by its own type.
          if (line.find("dir;") == std::string::npos) continue;
          info.emplace();
          info->kind = FileInfo::Kind::folder;
        }
        info->name = name_of(path);
        return info;
      }
      return std::optional<FileInfo>{};
    }
    if (answer.reply == no_file) return std::optional<FileInfo>{};
    if (!is_unknown_command(answer.reply)) return refused(answer, path, "looking at it");
    has_facts_ = false;
  }
  const auto beside = list(folder_of(path));
  if (!beside && beside.error().code == ErrorCode::not_found) return std::optional<FileInfo>{};
  if (!beside) return tl::unexpected(beside.error());
  const auto found = std::ranges::find(*beside, name_of(path), &FileInfo::name);
  if (found == beside->end()) return std::optional<FileInfo>{};
  return *found;
}

Result<std::vector<FileInfo>> FtpStore::list(const std::string& folder) {
  BAYSWAP_CHECK(check_path(folder));
  Question question;
  question.path = folder;
  question.is_folder = true;
  if (has_facts_) question.custom = "MLSD";
  BAYSWAP_TRY(Answer answer, ask(question));
  if (answer.code != CURLE_OK && has_facts_ && is_unknown_command(answer.reply)) {
    has_facts_ = false;
    question.custom.clear();
    BAYSWAP_TRY(answer, ask(question));
  }
  if (answer.code != CURLE_OK) {
    if (answer.reply == no_file || answer.reply == no_file_now || answer.code == CURLE_REMOTE_ACCESS_DENIED ||
        answer.code == CURLE_REMOTE_FILE_NOT_FOUND)
      return not_there(display_path(folder));
    return refused(answer, folder, "listing it");
  }
  BAYSWAP_TRY(auto all, listing_from(answer.bytes, has_facts_));
  for (FileInfo& one : all) {
    BAYSWAP_CHECK(check_listed_name(one.name, display_path(folder)));
    if (has_facts_ || one.kind != FileInfo::Kind::file) continue;
    // Its time, to the second, file by file: the columns do not have it.
    const std::string path = is_root(folder) ? one.name : join_path(folder, one.name);
    if (!check_path(path)) continue;
    BAYSWAP_TRY(const Answer time, command({"*MDTM " + on_server(path)}));
    for (const std::string& line : time.lines)
      if (line.starts_with("213 ")) one.modified = seconds_of_timestamp(std::string_view(line).substr(4));
  }
  return all;
}

Result<Blob> FtpStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  BAYSWAP_CHECK(check_path(path));
  if (count == 0) return Blob();
  Question question;
  question.path = path;
  question.count = count;
  const bool is_whole = at == 0 && count > whole_from;
  if (!is_whole) question.range = fmt::format("{}-{}", at, at + count - 1);
  BAYSWAP_TRY(const Answer answer, ask(question));
  if (answer.code == CURLE_OK) return Blob::copy_of(answer.bytes).slice(0, count);
  // An offset after the end, or a file that is not there: the codes do not tell.
  BAYSWAP_TRY(const auto there, stat(path));
  if (!there) return not_there(display_path(path));
  if (there->kind == FileInfo::Kind::folder)
    return fail(ErrorCode::bad_usage, fmt::format("{} is a folder", display_path(path)));
  if (at >= there->size_bytes) return Blob();
  return refused(answer, path, "reading it");
}

Result<void> FtpStore::make_folders(const std::string& path) {
  const std::string folder = folder_of(path);
  if (is_root(folder) || made_.contains(folder)) return {};
  std::vector<std::string> commands;
  for (std::size_t at = 0; at != std::string::npos;) {
    at = folder.find('/', at + 1);
    commands.push_back("*MKD " + on_server(folder.substr(0, at)));  // '*': one that is there is no error
  }
  BAYSWAP_TRY(const Answer answer, command(commands));
  if (answer.code == CURLE_OK) made_.insert(folder);
  return {};
}

Result<void> FtpStore::store_bytes(const std::string& path, ByteView bytes) {
  BAYSWAP_CHECK(make_folders(path));
  Question question;
  question.path = path;
  question.body = bytes;
  BAYSWAP_TRY(const Answer answer, ask(question));
  return answer.code == CURLE_OK ? Result<void>{} : refused(answer, path, "writing it");
}

Result<void> FtpStore::replace(const std::string& path, ByteView bytes) {
  BAYSWAP_CHECK(check_path(path));
  const std::string aside = aside_of(path);
  auto written = store_bytes(aside, bytes);
  if (!written) {
    (void)command({"DELE " + on_server(aside)});
    return written;
  }
  const std::string from = "RNFR " + on_server(aside);
  const std::string to = "RNTO " + on_server(path);
  BAYSWAP_TRY(Answer answer, command({from, to}));
  if (answer.code == CURLE_OK) return {};
  // A server that does not rename over a file: the old one steps aside, and comes back if that fails too.
  const std::string old = on_server(aside_of(path));
  BAYSWAP_TRY(const Answer stepped, command({"RNFR " + on_server(path), "RNTO " + old}));
  if (stepped.code == CURLE_OK) {
    BAYSWAP_TRY(answer, command({from, to}));
    if (answer.code == CURLE_OK) {
      (void)command({"DELE " + old});
      return {};
    }
    (void)command({"RNFR " + old, to});
  }
  (void)command({"DELE " + on_server(aside)});
  return refused(answer, path, "giving it its name");
}

Result<void> FtpStore::create(const std::string& path, ByteView bytes) {
  BAYSWAP_TRY(const auto there, stat(path));
  if (there) return there_already(display_path(path));
  return replace(path, bytes);
}

Result<void> FtpStore::add(const std::string& path, ByteView bytes) {
  BAYSWAP_TRY(const auto there, stat(path));
  if (there) return there_already(display_path(path));
  return store_bytes(path, bytes);
}

Result<void> FtpStore::remove(const std::string& path) {
  BAYSWAP_CHECK(check_path(path));
  BAYSWAP_TRY(const Answer answer, command({"DELE " + on_server(path)}));
  if (answer.code == CURLE_OK) return {};
  BAYSWAP_TRY(const auto there, stat(path));
  return there ? Result<void>(refused(answer, path, "removing it")) : not_there(display_path(path));
}

}  // namespace bayswap
