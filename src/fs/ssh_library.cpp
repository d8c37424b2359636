#include "fs/ssh_library.hpp"

#include <dlfcn.h>

#include <type_traits>

namespace bayswap {
namespace {

SshLibrary load_ssh() {
  SshLibrary all;
  void* const handle = dlopen("libssh.so.4", RTLD_NOW | RTLD_LOCAL);
  if (handle == nullptr) return all;
  bool is_whole = true;
  const auto find = [&](const char* name, auto& function) {
    function = reinterpret_cast<std::remove_reference_t<decltype(function)>>(dlsym(handle, name));  // NOLINT
    is_whole = is_whole && function != nullptr;
  };
  find("ssh_new", all.make);
  find("ssh_free", all.free);
  find("ssh_options_set", all.options_set);
  find("ssh_options_parse_config", all.parse_config);
  find("ssh_connect", all.connect);
  find("ssh_disconnect", all.disconnect);
  find("ssh_is_connected", all.is_connected);
  find("ssh_get_fd", all.socket);
  find("ssh_session_is_known_server", all.is_known_server);
  find("ssh_userauth_publickey_auto", all.auth_key);
  find("ssh_userauth_password", all.auth_password);
  find("ssh_get_error", all.error);
  find("sftp_new", all.sftp_make);
  find("sftp_init", all.sftp_start);
  find("sftp_free", all.sftp_end);
  find("sftp_get_error", all.sftp_error);
  find("sftp_stat", all.stat);
  find("sftp_attributes_free", all.attributes_free);
  find("sftp_opendir", all.opendir);
  find("sftp_readdir", all.readdir);
  find("sftp_dir_eof", all.dir_eof);
  find("sftp_closedir", all.closedir);
  find("sftp_open", all.open);
  find("sftp_seek64", all.seek);
  find("sftp_read", all.read);
  find("sftp_write", all.write);
  find("sftp_close", all.close);
  find("sftp_fsync", all.sync);
  find("sftp_rename", all.rename);
  find("sftp_unlink", all.unlink);
  find("sftp_mkdir", all.mkdir);
  return is_whole ? all : SshLibrary{};
}

}  // namespace

const SshLibrary* SshLibrary::get() {
  static const SshLibrary library = load_ssh();
  return library.mkdir != nullptr ? &library : nullptr;
}

}  // namespace bayswap
