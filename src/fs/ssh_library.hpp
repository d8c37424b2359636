// libssh, loaded when it is first needed.
#pragma once

#include <libssh/libssh.h>
#include <libssh/sftp.h>

namespace bayswap {

/// What we use of libssh, by the types of its own headers.
struct SshLibrary {
  decltype(&::ssh_new) make = nullptr;
  decltype(&::ssh_free) free = nullptr;
  decltype(&::ssh_options_set) options_set = nullptr;
  decltype(&::ssh_options_parse_config) parse_config = nullptr;
  decltype(&::ssh_connect) connect = nullptr;
  decltype(&::ssh_disconnect) disconnect = nullptr;
  decltype(&::ssh_is_connected) is_connected = nullptr;
  decltype(&::ssh_get_fd) socket = nullptr;
  decltype(&::ssh_session_is_known_server) is_known_server = nullptr;
  decltype(&::ssh_userauth_publickey_auto) auth_key = nullptr;
  decltype(&::ssh_userauth_password) auth_password = nullptr;
  decltype(&::ssh_get_error) error = nullptr;
  decltype(&::sftp_new) sftp_make = nullptr;
  decltype(&::sftp_init) sftp_start = nullptr;
  decltype(&::sftp_free) sftp_end = nullptr;
  decltype(&::sftp_get_error) sftp_error = nullptr;
  decltype(&::sftp_stat) stat = nullptr;
  decltype(&::sftp_attributes_free) attributes_free = nullptr;
  decltype(&::sftp_opendir) opendir = nullptr;
  decltype(&::sftp_readdir) readdir = nullptr;
  decltype(&::sftp_dir_eof) dir_eof = nullptr;
  decltype(&::sftp_closedir) closedir = nullptr;
  decltype(&::sftp_open) open = nullptr;
  decltype(&::sftp_seek64) seek = nullptr;
  decltype(&::sftp_read) read = nullptr;
  decltype(&::sftp_write) write = nullptr;
  decltype(&::sftp_close) close = nullptr;
  decltype(&::sftp_fsync) sync = nullptr;
  decltype(&::sftp_rename) rename = nullptr;
  decltype(&::sftp_unlink) unlink = nullptr;
  decltype(&::sftp_mkdir) mkdir = nullptr;

  /// Nothing if it is not installed.
  [[nodiscard]] static const SshLibrary* get();
};

}  // namespace bayswap
