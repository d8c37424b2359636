// What the kinds of cards have in common: numbered entries, each with a chain of blocks. A kind says how its
// medium holds them; names, clashes, room, cross-links, lost blocks and carving are done here, once. Work and
// memory are bounded by the size of the card, whatever its directory claims.
#pragma once

#include <fmt/format.h>

#include <functional>
#include <optional>
#include <set>
#include <vector>

#include "card/kinds.hpp"

namespace bayswap {

class BlockCard : public Card {
 public:
  BlockCard(const SaveFormat& format, const Blob& image);

  CardKind kind() const final { return format_.kind; }
  std::vector<CardEntry> entries() const final;
  Result<CardSave> read(const std::string& name) const final;
  Result<void> put(const CardSave& save) final;
  Result<void> drop(const std::string& name) final;
  Result<void> undelete(const std::string& name) final;
  std::vector<CardProblem> check() const final;
  std::size_t repair() final;
  std::vector<FoundSave> carve(std::size_t present_bytes) const override;
  std::vector<CardBlock> map() const final;
  std::size_t free_blocks() const override;
  Blob image() const override { return Blob::copy_of(image_); }

 protected:
  /// An entry's place in the directory.
  struct Slot {
    std::size_t number = 0;
    std::size_t at = 0;  // offset of its entry in the image
    bool deleted = false;
  };
  struct Chain {
    std::vector<std::size_t> blocks;
    std::string problem;   // part of a sentence; empty for a sound one
    bool bridged = false;  // links were guessed
  };
  struct Problems {
    std::vector<CardProblem> list;
    template <class... Parts>
    void add(std::size_t at, bool repairable, fmt::format_string<Parts...> text, Parts&&... parts) {
      list.push_back({at, repairable, fmt::format(text, std::forward<Parts>(parts)...)});
    }
  };

  // ---- The medium as it is ----
  /// In the directory's order.
  [[nodiscard]] virtual std::vector<Slot> slots() const = 0;
  [[nodiscard]] virtual Chain chain(const Slot& slot) const = 0;
  [[nodiscard]] virtual CardSave save_at(const Slot& slot, const std::vector<std::size_t>& blocks) const = 0;
  /// The same, where links may have been guessed.
  [[nodiscard]] virtual CardSave save_by(const Slot& slot, const Chain& way) const {
    return save_at(slot, way.blocks);
  }
  [[nodiscard]] virtual std::size_t block_count() const = 0;
  [[nodiscard]] virtual BlockUse use_of(std::size_t block) const = 0;
  /// Where the image holds the block, and where it says what the block is used for.
  [[nodiscard]] virtual std::size_t block_at(std::size_t block) const = 0;
  [[nodiscard]] virtual std::size_t mark_at(std::size_t block) const { return block_at(block); }
  [[nodiscard]] virtual std::string_view unit() const { return "block"; }
  /// Name, title, size and all else that an entry tells. The default reads the whole save.
  [[nodiscard]] virtual CardEntry listed(const Slot& slot, const Chain& chain) const;
  /// What is wrong with the entry by itself; a sentence.
  [[nodiscard]] virtual std::string entry_problem(const Slot& /*slot*/) const { return {}; }
  /// All violations but those of chains, of names and of lost blocks.
  virtual void check_medium(Problems& problems) const = 0;

  // ---- Changes ----
  /// The save is a sound one of this kind, its name is free, and there is room.
  [[nodiscard]] virtual Result<void> place(const CardSave& save) = 0;
  /// `blocks` are those of its blocks that no other save has.
  virtual void erase(const Slot& slot, const std::vector<std::size_t>& blocks) = 0;
  /// Makes a deleted entry a live one where it is. False where the kind has to put the save anew.
  virtual bool revive(const Slot& /*slot*/, const Chain& /*chain*/) { return false; }
  /// Mends what check_medium() calls mendable; chains stay.
  virtual void repair_medium() = 0;
  /// Why the card's tables can't be trusted, so that nothing may be changed by them; empty where they can.
  [[nodiscard]] virtual std::string untrusted() const { return {}; }
  /// Why the image may be none of this kind, or have its bytes in another order or another size: then nothing
  /// of it is repaired or changed. Empty where it is surely one.
  [[nodiscard]] virtual std::string misunderstood() const { return {}; }
  /// Nothing can have led to a block that no save leads to.
  [[nodiscard]] virtual bool is_lost_for_sure() const { return untrusted().empty(); }
  /// Makes a block that no save leads to a free one.
  virtual void release(std::size_t /*block*/) {}
  /// Makes checksums right after a change.
  virtual void update_checksums() {}
  /// Drops what was remembered of the medium: it has changed.
  virtual void forget() const {}

  // ---- Carving ----
  /// What a table says of a block: the one that follows, or that it is the last, or why it can be neither.
  struct Link {
    std::size_t next = 0;
    bool last = false;
    std::string_view marked;  // "free"; empty for a link
  };
  /// The same by the table that counts, where a kind has one that can be trusted: chains in it that no entry
  /// leads to are saves without a name.
  [[nodiscard]] virtual Link link_of(std::size_t /*block*/) const { return {0, false, "free"}; }
  /// A save can have been there, whatever the table says.
  [[nodiscard]] virtual bool can_hold(std::size_t block) const { return use_of(block) != BlockUse::system; }
  /// Further entries that a sound card would not show: in backups, after a broken end.
  [[nodiscard]] virtual std::vector<Slot> hidden_slots() const { return {}; }
  /// The blocks by other signs, where the chain is broken.
  [[nodiscard]] virtual std::vector<Chain> other_chains(const Slot& /*slot*/) const { return {}; }
  /// Saves that their content shows, in `open` blocks: those that no save found so far surely has.
  virtual void add_by_content(std::vector<FoundSave>& /*found*/, std::vector<bool>& /*open*/,
                              std::size_t /*present_bytes*/) const {}
  /// Whether the content proves itself, by a checksum of its own.
  [[nodiscard]] virtual std::optional<bool> proven(const CardSave& /*save*/) const { return std::nullopt; }

  /// Blocks in use that no save leads to.
  [[nodiscard]] std::vector<std::size_t> orphans() const;
  /// Follows links from `first` on; by its entry the save has `count` blocks.
  [[nodiscard]] Chain walk(std::size_t first, std::size_t count,
                           const std::function<Link(std::size_t block)>& link) const;
  using Links = std::function<std::size_t(std::size_t block)>;
  /// A chain of `count` blocks in which broken links are bridged: by the first of `tables` whose link can be
  /// one, or else by the block `step` further on. Nothing where that leads off the card, or into another
  /// save that is sound. `problem` says what was bridged.
  [[nodiscard]] std::optional<Chain> bridged(std::size_t first, std::size_t count, int step,
                                             const std::vector<Links>& tables) const;

  [[nodiscard]] ByteView bytes(std::size_t at, std::size_t count) const {
    return ByteView(image_).subspan(at, count);
  }
  [[nodiscard]] std::span<Byte> bytes(std::size_t at, std::size_t count) {
    return std::span(image_).subspan(at, count);
  }
  [[nodiscard]] Blob gather(const std::vector<std::size_t>& blocks) const;

  const SaveFormat& format_;
  std::vector<Byte> image_;

 private:
  /// The directory with its chains, read once. A card can claim that thousands of saves have the same blocks:
  /// chains are followed until the saves have `max_claims` times the blocks of the card, and no further.
  struct Held {
    Slot slot;
    Chain chain;
    CardEntry entry;
  };
  struct Listing {
    std::vector<Held> rows;
    std::size_t unread = 0;     // entries after that
    std::vector<bool> settled;  // per block: a live save that is sound has it
  };
  static constexpr std::size_t max_claims = 4;
  static constexpr std::size_t max_carved = 2;  // the same for what is carved, which is kept in memory
  static constexpr std::size_t max_looked_at =
      16;  // and for the backups and remains that are looked at for it
  static constexpr std::size_t max_bridges = 20000;

  [[nodiscard]] const Listing& listing() const;
  [[nodiscard]] const std::set<std::string>& names() const;
  void changed() const;
  [[nodiscard]] Result<const Held*> find(const std::string& name) const;
  [[nodiscard]] Result<void> may_change() const;
  /// Per block: how many live saves have it.
  [[nodiscard]] std::vector<std::size_t> claims() const;
  void add_nameless(std::vector<FoundSave>& found, const std::vector<std::vector<std::size_t>>& blocks,
                    std::size_t present_bytes) const;
  void settle_claims(std::vector<FoundSave>& found,
                     const std::vector<std::vector<std::size_t>>& blocks) const;

  mutable std::optional<Listing> listing_;
  mutable std::optional<std::set<std::string>> names_;  // outlives the listing when a save is put
  mutable std::size_t bridges_left_ = max_bridges;
};

}  // namespace bayswap
