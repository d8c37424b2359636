#include "live/programs.hpp"

#include <algorithm>
#include <initializer_list>
#include <map>
#include <string>
#include <string_view>
#include <vector>

namespace bayswap::test {
namespace {

// Bytes at an address, with names for places and jumps to them that are filled in at the end.
class Assembler {
 public:
  explicit Assembler(std::size_t size) : out_(size) {}

  void at(std::size_t address) { here_ = address; }
  void put(std::initializer_list<int> bytes) {
    for (const int b : bytes) out_.at(here_++) = static_cast<Byte>(b);
  }
  void text(std::string_view text) {
    for (const char c : text) out_.at(here_++) = static_cast<Byte>(c);
  }
  void name(const std::string& place) { places_[place] = here_; }
  // A jump of one byte, counted from after it.
  void near(int opcode, const std::string& place) {
    put({opcode, 0});
    jumps_.push_back({here_ - 1, place, false});
  }
  // A 32-bit word, little-endian.
  void word(std::uint32_t w) {
    for (int i = 0; i < 4; ++i) put({static_cast<int>(w >> (8 * i) & 0xff)});
  }
  // An ARM branch under a condition.
  void branch(std::uint32_t condition, const std::string& place) {
    jumps_.push_back({here_, place, true});
    word(condition << 28 | 0x0a000000);
  }

  [[nodiscard]] std::vector<Byte>& done() {
    for (const Jump& jump : jumps_) {
      const auto target = static_cast<std::ptrdiff_t>(places_.at(jump.place));
      const auto from = static_cast<std::ptrdiff_t>(jump.at);
      if (jump.is_arm) {
        const std::ptrdiff_t words = (target - from - 8) / 4;
        for (int i = 0; i < 3; ++i)
          out_.at(jump.at + static_cast<std::size_t>(i)) = static_cast<Byte>(words >> (8 * i));
      } else {
        out_.at(jump.at) = static_cast<Byte>(target - from - 1);
      }
    }
    return out_;
  }

 private:
  struct Jump {
    std::size_t at;
    std::string place;
    bool is_arm;
  };
  std::vector<Byte> out_;
  std::size_t here_ = 0;
  std::map<std::string, std::size_t> places_;
  std::vector<Jump> jumps_;
};

void gb_code(Assembler& a, Byte seed) {
  const int s = seed;
  a.at(0x100);
  a.put({0x00, 0xc3, 0x50, 0x01, 0xce, 0xed, 0x66, 0x66});  // jump to 150; the boot picture's first bytes
  a.at(0x150);
  a.put({0xf3, 0x31, 0xfe, 0xff, 0x3e, 0x0a, 0xea, 0x00, 0x00});  // di; ld sp; enable the RAM
  a.put({0xaf, 0xea, 0x00, 0x40});                                // bank 0
  a.put({0x21, 0x00, 0xa0, 0x06, s, 0x0e, 0x00});                 // ld hl,A000; ld b,seed; ld c,0
  a.name("check");
  a.put({0x7e, 0xa8, 0xe6, 0x0f});  // ld a,(hl); xor b; and 0F
  a.near(0x20, "write");
  a.put({0x23, 0x78, 0xc6, 0x07, 0x47, 0x0d});  // inc hl; b += 7; dec c
  a.near(0x20, "check");
  a.put({0x3e, saw_it});
  a.near(0x18, "mark");
  a.name("write");
  a.put({0x21, 0x00, 0xa0, 0x06, s, 0x0e, 0x00});
  a.name("more");
  a.put({0x78, 0x22, 0xc6, 0x07, 0x47, 0x0d});  // ld a,b; ld (hl+),a; b += 7; dec c
  a.near(0x20, "more");
  a.put({0x3e, wrote_it});
  a.name("mark");
  a.put({0xea, 0xff, 0xa1});  // ld (A1FF),a
}

Blob gb_finished(Assembler& a, Byte board, Byte ram_size) {
  std::vector<Byte>& rom = a.done();
  const std::string_view title = "LANTERN LOG";
  std::ranges::copy(title, rom.begin() + 0x134);
  rom[0x147] = board;
  rom[0x149] = ram_size;
  Byte sum = 0;
  for (std::size_t i = 0x134; i < 0x14d; ++i) sum = static_cast<Byte>(sum - rom[i] - 1);
  rom[0x14d] = sum;
  return Blob::copy_of(rom);
}

}  // namespace

Blob gb_program(Byte board, Byte seed) {
  Assembler a(32768);
  gb_code(a, seed);
  a.name("stay");
  a.near(0x18, "stay");
  return gb_finished(a, board, board == 0x06 ? 0 : 3);
}

Blob gb_clock_program(Byte seed) {
  Assembler a(32768);
  gb_code(a, seed);
  a.name("again");
  a.put({0xaf, 0xea, 0x00, 0x60, 0x3c, 0xea, 0x00, 0x60});  // latch: 0, then 1, to 6000
  a.put({0x3e, 0x0b, 0xea, 0x00, 0x40});                    // the day counter's lower byte
  a.put({0xfa, 0x00, 0xa0, 0x47});                          // ld a,(A000); ld b,a
  a.put({0xaf, 0xea, 0x00, 0x40, 0x78, 0xea, 0xfe, 0xa1});  // bank 0; ld (A1FE),b
  a.near(0x18, "again");
  return gb_finished(a, 0x10, 3);
}

Blob gb_ledger_program() {
  Assembler a(32768);
  a.at(0x100);
  a.put({0x00, 0xc3, 0x50, 0x01, 0xce, 0xed, 0x66, 0x66});
  a.at(0x150);
  a.put({0xf3, 0x31, 0xfe, 0xff, 0x3e, 0x0a, 0xea, 0x00, 0x00});  // di; ld sp; enable the RAM
  a.put({0xaf, 0xea, 0x00, 0x40});                                // bank 0
  const auto sum = [&](const std::string& loop) {
    a.put({0x21, 0x00, 0xa0, 0x0e, 14, 0xaf});  // ld hl,A000; ld c,14; a = 0
    a.name(loop);
    a.put({0x86, 0x23, 0x0d});  // a += (hl); inc hl; dec c
    a.near(0x20, loop);
  };
  a.put({0xfa, 0x00, 0xa0, 0xfe, 'L'});  // is there a ledger?
  a.near(0x20, "new");
  sum("check");
  a.put({0xbe});  // cp (hl)
  a.near(0x20, "new");
  a.put({0x2f, 0x23, 0xbe});  // cpl; inc hl; cp (hl)
  a.near(0x20, "new");
  a.put({0xfa, 0x02, 0xa0, 0xea, 0xfc, 0xa1});  // the coins
  a.put({0xfa, 0x03, 0xa0, 0xea, 0xfd, 0xa1});
  a.put({0x3e, saw_it});
  a.near(0x18, "mark");
  a.name("new");
  a.put({0x21, 0x00, 0xa0});
  for (const int b : {int{'L'}, int{'G'}, 1250 & 0xff, 1250 >> 8})
    a.put({0x3e, b, 0x22});  // ld a,b; ld (hl+),a
  a.put({0x0e, 10, 0x3e, 0x21});
  a.name("fill");
  a.put({0x22, 0x3c, 0x0d});  // ld (hl+),a; inc a; dec c
  a.near(0x20, "fill");
  sum("checksum");
  a.put({0x22, 0x2f, 0x22});  // ld (hl+),a; cpl; ld (hl+),a
  a.put({0x3e, wrote_it});
  a.name("mark");
  a.put({0xea, 0xff, 0xa1});
  a.name("stay");
  a.near(0x18, "stay");
  return gb_finished(a, 0x1b, 2);
}

Blob gba_program(Byte seed) {
  Assembler a(32768);
  constexpr std::uint32_t always = 0xe;
  constexpr std::uint32_t not_equal = 0x1;
  const auto set_seed = 0xe3a01000 | seed;
  a.branch(always, "start");
  a.at(0xa0);
  a.text("MOTHCOURIER");
  a.at(0xac);
  a.text("A99P");
  a.at(0xb2);
  a.put({0x96});
  a.at(0xc0);
  a.name("start");
  a.word(0xe3a0040e);  // mov r0, 0E000000
  a.word(set_seed);    // mov r1, seed
  a.word(0xe3a02000);  // mov r2, 0
  a.name("check");
  a.word(0xe7d03002);  // ldrb r3, [r0, r2]
  a.word(0xe20140ff);  // and r4, r1, FF
  a.word(0xe1530004);  // cmp r3, r4
  a.branch(not_equal, "write");
  a.word(0xe2811007);  // add r1, r1, 7
  a.word(0xe2822001);  // add r2, r2, 1
  a.word(0xe3520c01);  // cmp r2, 100
  a.branch(not_equal, "check");
  a.word(0xe3a05000 | saw_it);
  a.branch(always, "mark");
  a.name("write");
  a.word(set_seed);
  a.word(0xe3a02000);
  a.name("more");
  a.word(0xe7c01002);  // strb r1, [r0, r2]
  a.word(0xe2811007);
  a.word(0xe2822001);
  a.word(0xe3520c01);
  a.branch(not_equal, "more");
  a.word(0xe3a05000 | wrote_it);
  a.name("mark");
  a.word(0xe2806c02);  // add r6, r0, 200
  a.word(0xe2466001);  // sub r6, r6, 1
  a.word(0xe5c65000);  // strb r5, [r6]
  a.name("stay");
  a.branch(always, "stay");
  a.at(0x400);
  a.text("SRAM_V113");
  std::vector<Byte>& rom = a.done();
  Byte sum = 0x19;
  for (std::size_t i = 0xa0; i < 0xbd; ++i) sum = static_cast<Byte>(sum + rom[i]);
  rom[0xbd] = static_cast<Byte>(-sum);
  return Blob::copy_of(rom);
}

Blob nes_program(Byte seed) {
  constexpr std::size_t header = 16;
  constexpr std::size_t code = header + 16384;  // the bank that is at C000
  const int s = seed;
  Assembler a(header + 32768);
  a.text("NES\x1a");
  a.put({2, 0, 0x12});  // two banks, RAM for pictures, board 1 with a battery
  a.at(code);
  a.put({0x78, 0xd8, 0xa2, 0xff, 0x9a});     // sei; cld; ldx FF; txs
  a.put({0xa2, 0x00, 0xa9, s, 0x85, 0x00});  // ldx 0; lda seed; sta 00
  a.name("check");
  a.put({0xbd, 0x00, 0x60, 0xc5, 0x00});  // lda 6000,x; cmp 00
  a.near(0xd0, "write");
  a.put({0xa5, 0x00, 0x18, 0x69, 0x07, 0x85, 0x00, 0xe8});  // 00 += 7; inx
  a.near(0xd0, "check");
  a.put({0xa9, saw_it});
  a.near(0xd0, "mark");
  a.name("write");
  a.put({0xa2, 0x00, 0xa9, s});
  a.name("more");
  a.put({0x9d, 0x00, 0x60, 0x18, 0x69, 0x07, 0xe8});  // sta 6000,x; a += 7; inx
  a.near(0xd0, "more");
  a.put({0xa9, wrote_it});
  a.name("mark");
  a.put({0x8d, 0xff, 0x61});  // sta 61FF
  a.name("stay");
  a.put({0xa9, 0x01});
  a.near(0xd0, "stay");
  a.at(header + 32768 - 6);
  a.put({0x00, 0xc0, 0x00, 0xc0, 0x00, 0xc0});
  return Blob::copy_of(a.done());
}

Blob snes_program(Byte seed) {
  const int s = seed;
  Assembler a(32768);
  a.at(0);
  a.put({0x78, 0xa2, 0x00, 0xa9, s, 0x85, 0x00});  // sei; ldx 0; lda seed; sta 00
  a.name("check");
  a.put({0xbf, 0x00, 0x00, 0x70, 0xc5, 0x00});  // lda 700000,x; cmp 00
  a.near(0xd0, "write");
  a.put({0xa5, 0x00, 0x18, 0x69, 0x07, 0x85, 0x00, 0xe8});
  a.near(0xd0, "check");
  a.put({0xa9, saw_it});
  a.near(0x80, "mark");
  a.name("write");
  a.put({0xa2, 0x00, 0xa9, s});
  a.name("more");
  a.put({0x9f, 0x00, 0x00, 0x70, 0x18, 0x69, 0x07, 0xe8});  // sta 700000,x; a += 7; inx
  a.near(0xd0, "more");
  a.put({0xa9, wrote_it});
  a.name("mark");
  a.put({0x8f, 0xff, 0x01, 0x70});  // sta 7001FF
  a.name("stay");
  a.near(0x80, "stay");
  a.at(0x7fc0);
  a.text("TIN ORCHARD          ");
  a.put({0x20, 0x02, 0x05, 0x03, 0x02, 0x00, 0x00});  // mapping; RAM and battery; 32 KiB; 8 KiB; Europe
  a.at(0x7ffc);
  a.put({0x00, 0x80, 0x00, 0x80});
  std::vector<Byte>& rom = a.done();
  rom[0x7fdc] = rom[0x7fdd] = 0xff;
  unsigned sum = 0;
  for (const Byte b : rom) sum += b;
  rom[0x7fde] = static_cast<Byte>(sum);
  rom[0x7fdf] = static_cast<Byte>(sum >> 8);
  rom[0x7fdc] = static_cast<Byte>(~rom[0x7fde]);
  rom[0x7fdd] = static_cast<Byte>(~rom[0x7fdf]);
  return Blob::copy_of(rom);
}

Blob pce_program() {
  Assembler a(8192);
  a.put({0x78, 0xd4, 0xd8, 0xa9, 0xff, 0x53, 0x01});  // sei; csh; cld; the devices' page to 2000
  a.name("on");
  a.near(0x80, "on");
  a.at(0x1ffe);
  a.put({0x00, 0xe0});
  return Blob::copy_of(a.done());
}

}  // namespace bayswap::test
