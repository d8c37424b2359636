// Inputs that are made to mislead, through every command: whatever they claim, no file outside is touched,
// and memory and time stay in proportion to what was given.
#include <sys/stat.h>
#include <unistd.h>
#include <bayswap/card.hpp>
#include <bayswap/compression.hpp>
#include <bayswap/logbook.hpp>

#include <filesystem>
#include <fstream>

#include "support/demo_arcade.hpp"
#include "support/hostile.hpp"

namespace bayswap::test {
namespace {

namespace fs = std::filesystem;

class HostileInput : public DemoArcade {
 protected:
  // The program and its libraries, and what the kernel takes for a process, come on top of the bound.
  [[maybe_unused]] static constexpr std::size_t program_bytes = std::size_t{16} << 20;
  [[maybe_unused]] static constexpr std::size_t free_bytes = std::size_t{64} << 20;

  void put(const std::string& name, const Blob& bytes) const {
    fs::create_directories(fs::path(folder_ / name).parent_path());
    std::ofstream file(folder_ / name, std::ios::binary);
    file.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
  }
  void expect_in_proportion(std::vector<std::string> words, [[maybe_unused]] std::size_t input_bytes) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
#ifdef BAYSWAP_SANITIZED
    const std::size_t max_data_bytes = 0;
#else
    const std::size_t max_data_bytes = program_bytes + free_bytes + 8 * input_bytes;
#endif
    const Outcome outcome =
        run_process(words, folder_.path(), {{"BAYSWAP_HOME", path("home")}}, {}, max_data_bytes);
    EXPECT_LE(outcome.code, 5) << outcome.err.substr(0, 2000);
    EXPECT_TRUE(outcome.code <= 1 || has(outcome.err, "What to do:"));
    EXPECT_EQ(outcome.err.find("out of memory"), std::string::npos) << "over " << max_data_bytes << " bytes";
#ifndef BAYSWAP_SANITIZED
    EXPECT_LE(outcome.cpu_seconds, 2 + 2 * static_cast<double>(input_bytes) / (1 << 20));
#endif
  }
  std::map<std::string, std::string> everything() const {
    std::map<std::string, std::string> files;
    for (const auto& one : fs::recursive_directory_iterator(folder_.path())) {
      const std::string name = one.path().string();
      if (!one.is_regular_file() || name.find("/w/home/logbook") != std::string::npos ||
          name.find("/out") != std::string::npos)
        continue;
      std::ifstream file(name, std::ios::binary);
      files[name] = {std::istreambuf_iterator<char>(file), {}};
    }
    return files;
  }
};

TEST_F(HostileInput, EveryCommandOverEveryOneStaysInProportion) {
  constexpr std::size_t mega = std::size_t{1} << 20;
  std::map<std::string, Blob> inputs{
      {"no-root.card", ps2_card_without_root()},
      {"one-table.card", ps2_card_of_one_table()},
      {"names.card", ps2_card_with_a_file_called("../../evil")},
      {"600-by-4.card", ps2_card_of_one_chain(8 * mega, 600, 4)},
      {"sat.card", sat_memory_of_shared_lists(2000)},
      {"gc.zip", zip_of("gc.card", gc_card_of_one_chain())},
      {"loop.package",
       looping_package(read("clubroom-drive/content/E000A11D00000001/5A5A0993/00000001/jetty"))},
      {"names.parcel", parcel_with_names("../../evil", {"../../evil", "/tmp/evil", "a/b"})},
      {"long-names.tar.gz", tar_of_long_names(100, mega)},
      {"zeros.gz", wrap(Compression::gzip, Blob::filled(200 * mega, 0))},
      {"deep.toml", text_blob(dotted_toml(200000))},
      {"deep.zip", zip_of("titles.toml", text_blob(dotted_toml(200000)))},
  };
#ifndef BAYSWAP_SANITIZED
  inputs.emplace("one-chain.card", ps2_card_of_one_chain(64 * mega, 1, 1000));
  inputs.emplace("gc.card", gc_card_of_one_chain());
#endif
  Blob streams = wrap(Compression::zlib, Blob::filled(4 * mega, 0));
  std::vector<Blob> many(1024, streams);
  many.push_back(noise(32768, 1));
  inputs.emplace("streams", joined(many));
  put("in/known.sra", noise(32768, 7));
  fs::create_directory_symlink(".", folder_ / "in/loop-a");
  fs::create_directory_symlink(".", folder_ / "in/loop-b");
  const std::vector<std::vector<std::string>> commands{
      {"inspect", "@"},
      {"inspect", "@", "--json"},
      {"convert", "@", "--to", "gba.flash", "--out", "out/x"},
      {"convert", "@", "--out", "out/d/"},
      {"infer", "in/known.sra", "@", "--id", "n64.mine"},
      {"sheet", "show", "@"},
      {"sheet", "check", "@", "--sheet", "ps1.save-header"},
      {"sheet", "show", "w/bench/dumps/A99P.sav", "--sheet", "@"},
      {"card", "list", "@"},
      {"card", "export", "@", "--all", "--out", "out/taken/"},
      {"card", "check", "@"},
      {"card", "check", "@", "--repair"},
      {"card", "rescue", "@", "--out", "out/rescued/"},
      {"card", "picture", "@", "--out", "out/p.png"},
      {"card", "import", "target.card", "@"},
      {"card", "import", "folder", "@"},
      {"card", "copy", "@", "--all", "folder"},
      {"carry", "--outside", "@", "--to", "home-trees", "--yes"},
      {"carry", "--outside", "@", "--to", "quay-tv", "--yes"},
      {"carry", "@", "--from", "bench", "--to", "quay-tv", "--yes"},
      {"logbook", "import", "@"},
      {"layouts", "@"},
  };
  ASSERT_EQ(bayswap({"card", "make", "ps2", folder_ / "fresh.card"}).code, 0);
  const auto copied = [&](const std::string& from, const std::string& to) {
    fs::copy(folder_ / from, folder_ / to, fs::copy_options::overwrite_existing);
  };
  for (const auto& [name, bytes] : inputs) {
    for (const auto& command : commands) {
      fs::remove_all(folder_ / "out");
      fs::remove_all(folder_ / "folder");
      put("folder/keep.parcel", parcel_with_names("BESLES-99032", {"icon.sys"}));
      copied("fresh.card", "target.card");
      put("in/" + name, bytes);
      auto words = command;
      std::string text;
      for (std::string& word : words) {
        if (word == "@") word = "in/" + name;
        text += word + " ";
      }
      SCOPED_TRACE(text);
      expect_in_proportion(words, bytes.size());
      for (const char* evil : {"evil", "../evil", "in/evil", "w/evil"})
        EXPECT_FALSE(fs::exists(folder_ / evil)) << evil;
      EXPECT_FALSE(fs::exists("/tmp/evil"));
    }
    fs::remove(folder_ / ("in/" + name));
  }
  // Folders with links to themselves are looked at once.
  for (const std::vector<std::string>& words : {std::vector<std::string>{"inspect", "in"},
                                                {"carry", "--outside", "in", "--to", "home-trees", "--yes"}})
    expect_in_proportion(words, 40000);
}

TEST_F(HostileInput, NamesFromFilesNeverBecomePathsOutside) {
  const auto before = everything();
  const std::vector<std::string> names{"../../evil",
                                       "/tmp/bayswap-evil",
                                       "a/../../evil",
                                       "..",
                                       ".",
                                       "a/b",
                                       "a\\b",
                                       std::string("nul\0evil", 8),
                                       "\x1b[31m",
                                       "",
                                       std::string(300, 'n')};
  for (const std::string& name : names) {
    fs::create_directories(folder_ / "out/saves");
    put("out/x.parcel", parcel_with_names("BESLES-99031", {"icon.sys", name}));
    put("out/y.parcel", parcel_with_names(name.empty() ? ".." : name, {"icon.sys"}));
    put("out/saves/keep.parcel", parcel_with_names("BESLES-99032", {"icon.sys"}));
    put("out/card", ps2_card_with_a_file_called(name.substr(0, 31)));
    for (const std::vector<std::string>& words :
         {std::vector<std::string>{"card", "import", "out/saves", "out/x.parcel"},
          {"card", "import", "out/saves", "out/y.parcel"},
          {"card", "copy", "out/card", "--all", "out/saves"},
          {"card", "copy", "out/card", "BESLES-00002", "out/saves"},
          {"card", "export", "out/card", "--all", "--out", "out/t/"},
          {"card", "rescue", "out/card", "--out", "out/r/"}})
      EXPECT_LE(bayswap(words).code, 5);
    EXPECT_FALSE(fs::exists("/tmp/bayswap-evil"));
    EXPECT_FALSE(fs::exists(fs::path(folder_.path()).parent_path() / "evil"));
    fs::remove_all(folder_ / "out");
    EXPECT_TRUE(everything() == before) << name;
  }
}

TEST_F(HostileInput, BadBooksInTheHomeFolderAreNamedAndHurtNoOther) {
  put("w/home/layouts/deep.toml", text_blob(dotted_toml(200000)));
  put("w/home/layouts/clock.toml", text_blob("id = \"gb.short\"\nplatform = \"gb\"\nname = "
                                             "\"x\"\n[[part]]\nrole = \"sram\"\nat = 0\nsize = 8192\n"
                                             "[[part]]\nrole = \"rtc\"\nat = 8192\nsize = 7\n"));
  put("w/home/bays/deep.toml", text_blob(dotted_toml(200000)));
  const Outcome there = bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"});
  EXPECT_EQ(there.code, 0) << there.err;
  EXPECT_TRUE(has(there.err, "deep.toml"));
  EXPECT_LE(bayswap({"bay", "list"}).code, 1);
  put("x.gb", noise(8199, 1));
  expect_in_proportion({"inspect", folder_ / "x.gb"}, 8199);
  expect_in_proportion(
      {"convert", folder_ / "x.gb", "--from", "gb.short", "--to", "gb.raw", "--out", folder_ / "o"}, 8199);
  // A book that is used by every carry can't be left out: its line is named.
  put("w/home/titles.toml", text_blob(dotted_toml(200000)));
  const Outcome stopped = bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"});
  EXPECT_EQ(stopped.code, 2);
  EXPECT_TRUE(has(stopped.err, "titles.toml"));
}

TEST_F(HostileInput, NamesAreReadAsUtf8AndShownWithoutTricks) {
  // Whatever the locale says, a zip file's flagged names are UTF-8.
  put("caf.zip", zip_of("saves/Caf\xc3\xa9/Lantern Skiff (Europe).srm", read(tv_save)));
  const Outcome carried =
      run_process({BAYSWAP_BINARY, "carry", "--outside", folder_ / "caf.zip", "--to", "quay-tv", "--dry-run"},
                  folder_.path(), {{"BAYSWAP_HOME", path("home")}, {"LC_ALL", "C"}});
  EXPECT_EQ(carried.code, 0) << carried.err;
  EXPECT_TRUE(has(carried.out, "Caf\xc3\xa9"));
  // Controls of Latin-1, marks of direction, ends of lines, bytes that are no UTF-8.
  const std::string odd =
      "odd-\xc2\x9b"
      "2J\xe2\x80\xae\xe2\x80\xa8\x7f\xff.bin";
  put(odd, noise(1000, 1));
  const Outcome text = bayswap({"inspect", folder_ / odd});
  const Outcome document = bayswap({"inspect", folder_ / odd, "--json"});
  for (const char* trick : {"\xc2\x9b", "\xe2\x80\xae", "\xe2\x80\xa8", "\x7f"}) {
    EXPECT_EQ((text.out + text.err).find(trick), std::string::npos);
    EXPECT_EQ(document.out.find(trick), std::string::npos);
  }
  const auto parsed = nlohmann::json::parse(document.out);
  EXPECT_EQ(parsed[0]["path"], folder_ /
                                   "odd-\xc2\x9b"
                                   "2J\xe2\x80\xae\xe2\x80\xa8\x7f\xf4\x8f\xbf\xbf.bin")
      << "the byte FF stands as U+10FFFF";
}

TEST_F(HostileInput, AMediumThatIsAwayIsRefusedAndItsEntriesStayOpen) {
  fs::rename(path("quay-tv"), folder_ / "unplugged");
  for (const std::vector<std::string>& words :
       {std::vector<std::string>{"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"},
        {"carry", "Lantern Skiff", "--from", "quay-tv", "--to", "bench", "--yes"},
        {"carry", "--outside", "w/bench/dumps/N99P.sra", "--to", "quay-tv", "--yes"},
        {"list", "quay-tv"},
        {"bay", "show", "quay-tv"}}) {
    const Outcome outcome = bayswap(words);
    EXPECT_EQ(outcome.code, 4) << words[0] << outcome.out;
    EXPECT_TRUE(has(outcome.err, "plug in the medium"));
    EXPECT_FALSE(exists("quay-tv"));
  }
  fs::rename(folder_ / "unplugged", path("quay-tv"));
  ASSERT_EQ(bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"}).code, 0);
  fs::rename(path("quay-tv"), folder_ / "unplugged");
  const Outcome undone = bayswap({"undo", "--yes"});
  EXPECT_EQ(undone.code, 4);
  EXPECT_TRUE(has(undone.err, "plug in"));
  EXPECT_FALSE(exists("quay-tv"));
  fs::rename(folder_ / "unplugged", path("quay-tv"));
  EXPECT_EQ(bayswap({"undo", "--yes"}).code, 0);
}

TEST_F(HostileInput, AHomeAndABayBelowALinkWork) {
  fs::create_directory_symlink("w", folder_ / "link");
  const std::map<std::string, std::string> home{{"BAYSWAP_HOME", folder_ / "link/home"}};
  ASSERT_EQ(
      bayswap({"bay", "add", "box", "--like", "stem-folder", "--root", folder_ / "link/quay-tv"}, home).code,
      0);
  const Outcome kept = bayswap({"backup", "box"}, home);
  EXPECT_EQ(kept.code, 0) << kept.err;
  const Outcome there =
      bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"}, home);
  EXPECT_EQ(there.code, 0) << there.err;
  EXPECT_EQ(bayswap({"undo", "--yes"}, home).code, 0);
}

TEST_F(HostileInput, AFailingStdoutIsSaid) {
  const Outcome full = run_process({"/bin/sh", "-c", std::string(BAYSWAP_BINARY) + " layouts > /dev/full"},
                                   folder_.path(), {{"BAYSWAP_HOME", path("home")}});
  EXPECT_EQ(full.code, 5);
  EXPECT_TRUE(has(full.err, "output could not be written"));
}

// ---- Logbooks that someone else wrote -----------------------------------------------------------

class ForeignLogbook : public HostileInput {
 protected:
  ForeignLogbook() {
    EXPECT_EQ(bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"}).code, 0);
    put("victim", text_blob("precious"));
  }
  [[nodiscard]] bool victim_lives() const {
    return *LocalStore().read(folder_ / "victim") == text_blob("precious");
  }
  // What makes SQLite delete the named file when it opens the index beside it.
  void put_journal(const std::string& index) const {
    const std::string name = folder_ / "victim";
    std::string journal("\xd9\xd5\x05\xf9\x20\xa1\x63\xd7\0\0\0\0\0\0\0\1\0\0\0\1\0\0\2\0\0\0\x10\0", 28);
    journal.resize(512);
    const auto number = [&](std::uint32_t value) {
      for (int shift = 24; shift >= 0; shift -= 8) journal += static_cast<char>(value >> shift);
    };
    number(0x40000000 / 4096 + 1);
    journal += name;
    number(static_cast<std::uint32_t>(name.size()));
    std::uint32_t sum = 0;
    for (const char c : name) sum += static_cast<std::uint32_t>(static_cast<signed char>(c));
    number(sum);
    journal += "\xd9\xd5\x05\xf9\x20\xa1\x63\xd7";
    put(index + "-journal", text_blob(journal));
  }
  // A record of an entry that would write the victim.
  [[nodiscard]] std::string record(const std::string& path, const std::string& more = {}) const {
    const Blob evil = text_blob("evil");
    put("foreign/blobs/" + sha256(evil.view()).hex().substr(0, 2) + "/" + sha256(evil.view()).hex(), evil);
    return "id = 9\nkind = \"carry\"\nbegun = 1935655200\ndevice = \"x\"\nreason = \"x\"\nfrom_bay = "
           "\"a\"\nto_bay = "
           "\"b\"\n" +
           more + "\n[[change]]\npath = \"" + path + "\"\nbefore = \"" + sha256(evil.view()).hex() +
           "\"\nbefore_bytes = 4\nafter = \"" + sha256(text_blob("precious").view()).hex() +
           "\"\nafter_bytes = 8\n";
  }
};

TEST_F(ForeignLogbook, ItsIndexIsNeverOpened) {
  ASSERT_EQ(bayswap({"logbook", "export", folder_ / "copy"}).code, 0);
  EXPECT_FALSE(fs::exists(folder_ / "copy/index.sqlite")) << "an export is records and blobs";
  const Blob index = *LocalStore().read(path("home/logbook/index.sqlite"));
  for (const char* command : {"import", "export"}) {
    put("copy/index.sqlite", index);
    put_journal("copy/index.sqlite");
    EXPECT_EQ(bayswap({"logbook", command, folder_ / "copy"}).code, 0);
    EXPECT_TRUE(victim_lives()) << command;
  }
  EXPECT_FALSE(fs::exists(folder_ / "copy/index.sqlite")) << "and that of an older export is discarded";
  // Our own index with such a journal is put aside.
  put_journal("w/home/logbook/index.sqlite");
  EXPECT_EQ(bayswap({"logbook"}).code, 4);
  EXPECT_EQ(bayswap({"logbook", "check", "--repair"}).code, 0);
  EXPECT_TRUE(victim_lives());
  EXPECT_EQ(json({"logbook"}).size(), 1U);
}

TEST_F(ForeignLogbook, AnExportNeverWritesOverWhatIsNotItsOwn) {
  put("mine/README.txt", text_blob("my own notes"));
  EXPECT_EQ(bayswap({"logbook", "export", folder_ / "mine"}).code, 3);
  EXPECT_EQ(*LocalStore().read(folder_ / "mine/README.txt"), text_blob("my own notes"));
  ASSERT_EQ(bayswap({"logbook", "export", folder_ / "copy"}).code, 0);
  fs::remove_all(folder_ / "copy/records");
  fs::create_directory(folder_ / "elsewhere");
  fs::create_directory_symlink(folder_ / "elsewhere", folder_ / "copy/records");
  EXPECT_EQ(bayswap({"logbook", "export", folder_ / "copy"}).code, 3);
  EXPECT_TRUE(fs::is_empty(folder_ / "elsewhere"));
}

TEST_F(ForeignLogbook, ItsPathsAreNotFollowedOutOfTheBays) {
  for (const std::string& victim : {folder_ / "victim", std::string("victim"),
                                    folder_ / "w/quay-tv/../../victim", std::string("/etc/../etc/x")}) {
    put("foreign/records/0000000009.toml", text_blob(record(victim)));
    const auto count = json({"logbook"}).size();
    const Outcome taken = bayswap({"logbook", "import", folder_ / "foreign"});
    const auto entries = json({"logbook"});
    if (entries.size() > count) {
      EXPECT_TRUE(entries[0]["imported"]) << taken.err;
      const std::string id = std::to_string(entries[0]["id"].get<int>());
      EXPECT_NE(bayswap({"undo", id, "--yes"}).code, 0);
      EXPECT_NE(bayswap({"restore", "x", "--entry", id, "--before", "--yes"}).code, 0);
      // The newest is what was done here, whatever number the other has.
      EXPECT_TRUE(has(bayswap({"undo", "--dry-run"}).out, "Lantern Skiff"));
    }
    EXPECT_TRUE(victim_lives()) << victim;
  }
  // A whole home folder that someone else made: the same, without an import.
  fs::remove(path("home/logbook/index.sqlite"));
  put("w/home/logbook/records/0000000009.toml",
      text_blob(record(folder_ / "victim", "machine = \"0123\"\n")));
  for (const auto& blob : fs::recursive_directory_iterator(folder_ / "foreign/blobs"))
    if (blob.is_regular_file()) {
      const std::string name = blob.path().filename();
      put("w/home/logbook/blobs/" + name.substr(0, 2) + "/" + name, *LocalStore().read(blob.path()));
    }
  (void)bayswap({"undo", "--yes"});
  EXPECT_NE(bayswap({"undo", "9", "--yes"}).code, 0);
  EXPECT_TRUE(victim_lives());
}

TEST_F(ForeignLogbook, AnEntryWhoseFilesCantBeReadStaysOpenAndHoldsNothingUp) {
  for (const char* kind : {"folder", "pipe", "circle", "gone"}) {
    SCOPED_TRACE(kind);
    const std::string at = folder_ / ("w/quay-tv/saves/odd-" + std::string(kind));
    if (kind == std::string("folder")) fs::create_directory(at);
    if (kind == std::string("pipe")) {
      ASSERT_EQ(mkfifo(at.c_str(), 0600), 0);
    }
    if (kind == std::string("circle")) fs::create_symlink(at, at);
    const std::string place = kind == std::string("gone") ? folder_ / "stick/saves/x-gone" : at;
    LocalStore store(path("home/logbook"));
    {
      auto book = Logbook::open(store, path("home/logbook/index.sqlite"));
      ASSERT_TRUE(book) << book.error().message;
      Entry entry;
      entry.reason = kind;
      entry.root = fs::path(place).parent_path();
      ASSERT_TRUE(book->begin(entry, {{place, std::nullopt, noise(10, 1)}}));
    }
    const Outcome next = bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"});
    EXPECT_EQ(next.code, 0) << next.err;
    EXPECT_TRUE(has(next.err, "stays open"));
    EXPECT_EQ(json({"logbook", kind})[0]["state"], "begun");
    fs::remove(at);
    if (kind == std::string("gone")) {
      fs::create_directories(folder_ / "stick/saves");
    }
    (void)bayswap({"logbook"});
    EXPECT_EQ(json({"logbook", kind})[0]["state"], "cancelled") << "it is settled as soon as it can be";
  }
}

// ---- A program beside us that changes folders and makes files -----------------------------------

TEST_F(HostileInput, AFolderThatBecomesALinkIsNeverWrittenThrough) {
  const std::string saves = path("quay-tv/saves");
  const std::string aside = path("quay-tv/aside");
  fs::create_directory(folder_ / "outside");
  const pid_t attacker = fork();
  if (attacker == 0) {
    for (;;) {  // the folder, and a link to elsewhere in its place, as fast as can be
      (void)!rename(saves.c_str(), aside.c_str());
      (void)!symlink((folder_ / "outside").c_str(), saves.c_str());
      (void)!unlink(saves.c_str());
      (void)!rename(aside.c_str(), saves.c_str());
    }
  }
  for (int i = 0; i < 60; ++i) {
    (void)bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"});
    (void)bayswap({"undo", "--yes"});
  }
  kill(attacker, SIGKILL);
  int status = 0;
  waitpid(attacker, &status, 0);
  std::string escaped;
  for (const auto& one : fs::recursive_directory_iterator(folder_ / "outside"))
    escaped += one.path().string() + " ";
  EXPECT_EQ(escaped, "");
}

TEST_F(HostileInput, FilesMadeBeforehandAreNeverTakenForOurs) {
  // The temporary names of older versions followed from the target's; an attacker makes them in a shared
  // folder.
  chmod(path("quay-tv/saves").c_str(), 01777);
  for (int i = 0; i < 300; ++i)
    fs::create_symlink(folder_ / "stolen", path("quay-tv/saves/.bayswap-" + std::to_string(i) + ".tmp"));
  ASSERT_EQ(bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"}).code, 0);
  EXPECT_FALSE(fs::exists(folder_ / "stolen"));
  struct stat st {};
  ASSERT_EQ(stat(path(tv_save).c_str(), &st), 0);
  EXPECT_TRUE(S_ISREG(st.st_mode));
  for (const char* private_one : {"home/logbook", "home/logbook/blobs", "home/logbook/records"}) {
    ASSERT_EQ(stat(path(private_one).c_str(), &st), 0);
    EXPECT_EQ(st.st_mode & 0777U, 0700U) << private_one;
  }
  for (const auto& one : fs::recursive_directory_iterator(path("home/logbook")))
    if (one.is_regular_file()) {
      ASSERT_EQ(stat(one.path().c_str(), &st), 0);
      EXPECT_EQ(st.st_mode & 0077U, 0U) << one.path();
    }
}

}  // namespace
}  // namespace bayswap::test
