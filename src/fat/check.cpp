#include "fat/check.h"

#include <algorithm>
#include <memory>
#include <set>
#include <unordered_set>

#include <fmt/core.h>

#include <nuvrat/error.h>

#include "base/record.h"
#include "device/given.h"
#include "fat/check_state.h"

namespace nuvrat::fat {
namespace {

constexpr std::uint64_t compared_bytes = 1u << 20;  // at a time

class FatCheck {
 public:
  explicit FatCheck(CheckState& state) : s_(state) {}

  void run() {
    check_boot();
    check_fat_head();
    check_copies();
    check_unreadable();
    check_folders(s_);
    check_claims();
    check_unowned();
    weigh_copies();
    check_boot_copy();
    check_doubt();
    check_info();
  }

 private:
  std::optional<Bytes> read_reserved(std::uint32_t sector, const char* what) {
    Bytes out(s_.g.sector_bytes);
    if (device::is_given(s_.device, std::uint64_t{sector} * s_.ratio, out)) return out;
    s_.add(Rule::fat_unreadable, Severity::error, {sector, CheckState::root},
           std::string(what) + " can't be read");
    return std::nullopt;
  }

  void check_boot() {
    const auto boot = load<Boot>(s_.boot);
    const auto ext = load<Boot32>(s_.boot, 36);
    const std::uint64_t clusters = s_.g.clusters;
    if (s_.g.kind == VolumeKind::fat32 && clusters < 65525)
      s_.add(Rule::fat_cluster_count, Severity::note, {0, CheckState::root},
             fmt::format("FAT32 with {} clusters: some systems take it for FAT16", clusters));
    if (boot.BPB_TotSec16.value() != 0 && boot.BPB_TotSec32.value() != 0 &&
        boot.BPB_TotSec16.value() != boot.BPB_TotSec32.value())
      s_.add(Rule::fat_boot_fields, Severity::warning, {0, CheckState::root},
             "two fields say different sizes");
    if (s_.g.fats < 2)
      s_.add(Rule::fat_one_copy, Severity::note, {0, CheckState::root},
             "the volume has one FAT, without a copy");
    if (s_.g.dirty_flag)
      s_.add(Rule::fat_not_clean, Severity::error, {0, CheckState::root},
             "the volume was not closed properly; start it once under the system that owns it, or "
             "check it there");
    if (s_.g.kind != VolumeKind::fat32) return;
    const unsigned version = ext.BPB_FSVer.value();
    if (s_.g.backup_boot != 0) mend_boot();
    if (version != 0) {
      const Bytes& with = s_.facts.boot_mended;
      const bool mended = !with.empty() && load<Boot32>(with, 36).BPB_FSVer.value() == 0;
      s_.add(Rule::fat_boot_fields, Severity::warning, {0, CheckState::root},
             fmt::format("the volume is of version {:04X}{}", version,
                         mended ? ", which doesn't exist; the second boot sector says 0" : ""),
             mended);
    }
    if (boot.BPB_TotSec16.value() != 0)
      s_.add(Rule::fat_boot_fields, Severity::warning, {0, CheckState::root},
             "a field that FAT32 leaves zero holds the size");
    if (s_.g.backup_boot == 0) {
      s_.add(Rule::fat_boot_copy, Severity::note, {0, CheckState::root},
             "the volume has no second boot sector");
    } else if (const auto copy = read_reserved(s_.g.backup_boot, "the second boot sector");
               copy && *copy != s_.device.read(0, s_.ratio)) {
      s_.facts.boot_copy_differs = true;
      copy_contradicts_ = contradicts(s_.g, *copy);
    }
  }

  void mend_boot() {
    Bytes copy(s_.g.sector_bytes);
    if (!device::is_given(s_.device, std::uint64_t{s_.g.backup_boot} * s_.ratio, copy)) return;
    const Bytes first = s_.device.read(0, s_.ratio);
    Bytes merged = merged_boot(first, copy, media_of(s_.g.active_fat));
    if (merged != first) s_.facts.boot_mended = std::move(merged);
  }

  [[nodiscard]] std::optional<std::uint8_t> media_of(std::uint32_t copy) const {
    Bytes first(s_.device.sector_size());
    if (!device::is_given(s_.device, s_.g.fat_start(copy) * s_.ratio, first)) return std::nullopt;
    return first[0];
  }

  // Right is the one that the rest agrees with: the first is copied over the other only where
  // nothing that was seen with it is wrong, or where both say the same of what lies where.
  void check_boot_copy() {
    if (!s_.facts.boot_copy_differs) return;
    const bool person = copy_contradicts_ && !s_.agreement.complete();
    const Bytes& mended = s_.facts.boot_mended;
    const Bytes first = mended.empty() ? s_.device.read(0, s_.ratio) : mended;
    const Bytes second = s_.device.read(std::uint64_t{s_.g.backup_boot} * s_.ratio, s_.ratio);
    if (first == second) {
      s_.facts.boot_copy_differs = false;  // said of the first
      return;
    }
    const bool undecided = !person && merged_boot_copy(first, second) == second;
    s_.facts.boot_copy_differs = !undecided;
    if (undecided) {
      s_.add(Rule::fat_boot_copy, Severity::warning, {s_.g.backup_boot, CheckState::root},
             "the second boot sector is not the same as the first, in fields of which nothing on "
             "the volume says which is right (serial number, label, name of the maker, code): both "
             "stay as they are");
      return;
    }
    s_.add(Rule::fat_boot_copy, person ? Severity::error : Severity::warning,
           {s_.g.backup_boot, CheckState::root},
           !copy_contradicts_ ? "the second boot sector is not the same as the first"
           : person           ? "the boot sectors contradict each other, and the volume isn't "
                                "sound with the first one"
                    : "the second boot sector is of another layout; with the first one every chain "
                      "is sound, so that is the right one",
           !person);
  }

  void check_fat_head() {
    const auto media = media_of(s_.g.active_fat);
    if (media && *media != s_.boot[21]) {
      for (std::uint32_t copy = 0; s_.g.mirrored && copy < s_.g.fats; ++copy)
        s_.facts.head_wrong |= copy != s_.g.active_fat && media_of(copy) == s_.boot[21];
      const Bytes& mended = s_.facts.boot_mended;
      const bool boot_wrong =
          !s_.facts.head_wrong && !mended.empty() && load<Boot>(mended).BPB_Media == *media;
      s_.add(Rule::fat_media, Severity::warning,
             {s_.g.fat_start(s_.g.active_fat), CheckState::root},
             fmt::format("the FAT begins with {:02X}, the boot sector's media byte is {:02X}{}",
                         *media, s_.boot[21],
                         s_.facts.head_wrong ? ", as in another FAT: that is right"
                         : boot_wrong        ? "; the second boot sector says as the FAT"
                                             : ""),
             s_.facts.head_wrong || boot_wrong);
    }
    if (!s_.map.clean() && !s_.g.dirty_flag) s_.not_clean(s_.g.fat_start(s_.g.active_fat));
  }

  // Sectors that the device doesn't give are as those of the other copy: nothing is known of them.
  void read_both(std::uint64_t a, std::uint64_t b, ByteSpan one, ByteSpan other) {
    if (device::is_given(s_.device, a, one) && device::is_given(s_.device, b, other)) return;
    const std::size_t size = s_.device.sector_size();
    for (std::size_t at = 0; at < one.size(); at += size, ++a, ++b) {
      const ByteSpan first = one.subspan(at, size), second = other.subspan(at, size);
      const bool given = device::is_given(s_.device, a, first);
      if (!device::is_given(s_.device, b, second)) {
        ++unread_copies_;
        std::copy(first.begin(), first.end(), second.begin());
      } else if (!given) {
        std::copy(second.begin(), second.end(), first.begin());
      }
    }
  }

  void check_unreadable() {
    const SectorSet& replaced = s_.map.replaced();
    if (!replaced.empty())
      s_.add(Rule::fat_unreadable, Severity::error,
             {replaced.ranges().front().first / s_.ratio, CheckState::root},
             unreadable_fat_words(replaced.count()));
    if (unread_copies_ > 0)
      s_.add(Rule::fat_unreadable, Severity::error, {s_.g.fat_start(0), CheckState::root},
             fmt::format(
                 "{} of a copy of the FAT can't be read",
                 unread_copies_ == 1 ? "a sector" : fmt::format("{} sectors", unread_copies_)));
  }

  void check_copies() {
    if (!s_.g.mirrored) return;
    const std::uint64_t sectors = std::uint64_t{s_.g.fat_sectors} * s_.ratio;
    const std::uint64_t size = s_.device.sector_size();
    const std::uint64_t piece = std::min(compared_bytes / size, sectors);
    Bytes one(piece * size);
    Bytes other(piece * size);
    for (std::uint32_t copy = 0; copy < s_.g.fats; ++copy) {
      if (copy == s_.g.active_fat) continue;
      const std::uint64_t a = s_.g.fat_start(s_.g.active_fat) * s_.ratio;
      const std::uint64_t b = s_.g.fat_start(copy) * s_.ratio;
      std::uint64_t at = 0;
      std::optional<std::uint64_t> differs;
      while (at < sectors && !differs) {
        const std::uint64_t data = std::min(std::max(s_.device.next_data(a + at), a + at) - a,
                                            std::max(s_.device.next_data(b + at), b + at) - b);
        if (data > at) {  // both are a hole up to there
          at = std::min(data, sectors);
          continue;
        }
        const std::uint64_t count = std::min(piece, sectors - at);
        const std::size_t bytes = count * s_.device.sector_size();
        read_both(a + at, b + at, ByteSpan(one).first(bytes), ByteSpan(other).first(bytes));
        const auto end = one.begin() + static_cast<std::ptrdiff_t>(bytes);
        const auto hit = std::mismatch(one.begin(), end, other.begin());
        if (hit.first != end)
          differs =
              at + static_cast<std::uint64_t>(hit.first - one.begin()) / s_.device.sector_size();
        at += count;
      }
      if (!differs) continue;
      s_.facts.differing_copies.push_back(copy);
      s_.differs_at = (b + *differs) / s_.ratio;
    }
  }

  // Which differences the rest of the volume decides. Where nothing differs but what no entry is
  // made of, there is no difference.
  void weigh_copies() {
    if (s_.facts.differing_copies.empty()) return;
    for (const Claim& c : s_.claims) s_.facts.owned.push_back({c.first, c.count});
    s_.facts.complete = s_.agreement.complete() || s_.facts.unowned.empty();
    const CopyMerge merge(s_.g, s_.boot[21], s_.facts.owned, s_.facts.complete);
    const std::uint64_t sectors = std::uint64_t{s_.g.fat_sectors} * s_.ratio;
    const std::uint64_t size = s_.device.sector_size();
    const std::uint64_t piece =
        s_.g.kind == VolumeKind::fat12 ? sectors : std::min(compared_bytes / size, sectors);
    Bytes one(piece * size), other(piece * size);
    std::erase_if(s_.facts.differing_copies, [&](std::uint32_t copy) {
      CopyMerge::Counts counts;
      for (std::uint64_t at = 0; at < sectors; at += piece) {
        const std::uint64_t count = std::min(piece, sectors - at);
        const ByteSpan a = ByteSpan(one).first(count * size);
        const ByteSpan b = ByteSpan(other).first(count * size);
        read_both(s_.g.fat_start(s_.g.active_fat) * s_.ratio + at,
                  s_.g.fat_start(copy) * s_.ratio + at, a, b);
        if (std::equal(a.begin(), a.end(), b.begin())) continue;
        const CopyMerge::Counts of_piece = merge.merge(at * size, a, b);
        counts.decided += of_piece.decided;
        counts.left += of_piece.left;
      }
      s_.copies.decided += counts.decided;
      s_.copies.left += counts.left;
      return counts.decided + counts.left == 0;
    });
  }

  void check_claims() {
    std::sort(s_.claims.begin(), s_.claims.end(), [](const Claim& a, const Claim& b) {
      return a.first != b.first ? a.first < b.first : a.node < b.node;
    });
    const Claim* widest = nullptr;
    for (const Claim& c : s_.claims) {
      if (widest != nullptr && c.first - widest->first < widest->count) {
        s_.facts.chains_sound = false;
        const std::string other = s_.tree.path(widest->node);
        s_.error(Rule::fat_chain_shared, c.node,
                 fmt::format("cluster {} belongs to it and to '{}'", c.first,
                             other.empty() ? "the root folder" : other));
      }
      if (widest == nullptr || c.first + c.count > widest->first + widest->count) widest = &c;
    }
  }

  // Clusters in use that no folder and no file has.
  void check_unowned() {
    std::vector<ClusterRange> lost;
    auto claim = s_.claims.begin();
    std::uint64_t covered = 0;  // claims reach up to here
    s_.map.each_used([&](ClusterRange used) {
      std::uint32_t at = used.first;
      const std::uint32_t end = used.first + used.count;
      while (at < end) {
        while (claim != s_.claims.end() && claim->first <= at) {
          covered = std::max<std::uint64_t>(covered, std::uint64_t{claim->first} + claim->count);
          ++claim;
        }
        if (covered > at) {
          at = static_cast<std::uint32_t>(std::min<std::uint64_t>(covered, end));
          continue;
        }
        const std::uint32_t stop =
            claim == s_.claims.end() ? end : std::min(end, std::max(claim->first, at + 1));
        if (!lost.empty() && lost.back().first + lost.back().count == at) {
          lost.back().count += stop - at;
        } else {
          lost.push_back({at, stop - at});
        }
        at = stop;
      }
    });
    std::erase_if(lost, [this](const ClusterRange& r) { return s_.map.is_bad(r.first); });
    gather_chains(lost);
    std::uint64_t clusters = 0;
    for (const ClusterRange& r : lost) clusters += r.count;
    if (clusters == 0) return;
    s_.add(Rule::fat_unowned, Severity::warning,
           {s_.g.cluster_start(lost.front().first), CheckState::root},
           fmt::format(
               "{} clusters in {} belong to no file ({} bytes), from cluster {} on", clusters,
               s_.facts.unowned.size() == 1 ? "one chain"
                                            : fmt::format("{} chains", s_.facts.unowned.size()),
               clusters * s_.g.cluster_bytes(), lost.front().first),
           true);
  }

  // What is in no folder can be kept as files where nothing speaks against the places of the FATs
  // and of the root; folders that are elsewhere speak against all of it.
  void check_doubt() {
    const auto code = s_.agreement.doubt_code();
    if (!code) return;
    const bool lost = s_.agreement.doubt() == Agreement::Doubt::root_lost;
    s_.facts.root_lost = lost;
    s_.add(*code, Severity::error, {s_.g.root_start(), CheckState::root},
           s_.agreement.doubt_words(), lost && !s_.facts.unowned.empty() && !copy_contradicts_);
  }

  // Chains begin at clusters that no other lost cluster leads to. What is left after those runs in
  // circles.
  void gather_chains(const std::vector<ClusterRange>& lost) {
    std::unordered_set<std::uint32_t> led_to;
    std::vector<ClusterRange> parts;
    for (const ClusterRange& r : lost) {
      for (const ClusterRange& part : s_.map.runs_in(r)) {
        parts.push_back(part);
        led_to.insert(s_.map.next_after(part));
      }
    }
    std::unordered_set<std::uint32_t> gathered;  // by where the part begins
    for (const ClusterRange& head : parts) {
      if (led_to.count(head.first) == 0)
        s_.facts.unowned.push_back(lost_chain(head.first, parts, gathered));
    }
    for (const ClusterRange& part : parts) {
      if (gathered.count(part.first) == 0) s_.facts.unowned.push_back({part.first, {part}, false});
    }
  }

  // As far as it is nobody's: it may lead into a file's chain, or into another lost one.
  Facts::Chain lost_chain(std::uint32_t head, const std::vector<ClusterRange>& parts,
                          std::unordered_set<std::uint32_t>& gathered) {
    Facts::Chain out{head, {}, false};
    for (std::uint32_t at = head;;) {
      const auto part = std::lower_bound(
          parts.begin(), parts.end(), at,
          [](const ClusterRange& r, std::uint32_t cluster) { return r.first < cluster; });
      if (part == parts.end() || part->first != at || !gathered.insert(at).second) return out;
      out.ranges.push_back(*part);
      at = s_.map.next_after(*part);
      if (at == end_of_chain) {
        out.sound = true;
        return out;
      }
    }
  }

  void check_info() {
    s_.facts.free_clusters = s_.map.free_clusters();
    s_.facts.first_free = s_.map.first_free();
    if (s_.g.kind != VolumeKind::fat32 || s_.g.fs_info == 0) return;
    const auto sector = read_reserved(s_.g.fs_info, "FSInfo");
    if (!sector) return;
    const auto info = load<FsInfo>(*sector);
    if (info.FSI_LeadSig.value() != 0x41615252 || info.FSI_StrucSig.value() != 0x61417272 ||
        info.FSI_TrailSig.value() != 0xAA550000) {
      s_.facts.info_wrong = true;
      s_.add(Rule::fat_fs_info, Severity::warning, {s_.g.fs_info, CheckState::root},
             "FSInfo doesn't bear its signatures", true);
      return;
    }
    const std::uint32_t count = info.FSI_Free_Count.value();
    if (count != 0xFFFFFFFF && count != s_.map.free_clusters()) {
      s_.facts.info_wrong = true;
      s_.add(Rule::fat_fs_info, Severity::warning, {s_.g.fs_info, CheckState::root},
             fmt::format("FSInfo says {} free clusters, the FAT has {}", count,
                         s_.map.free_clusters()),
             true);
    }
    const std::uint32_t next = info.FSI_Nxt_Free.value();
    if (next != 0xFFFFFFFF && !s_.g.valid_cluster(next)) {
      s_.facts.info_wrong = true;
      s_.add(Rule::fat_fs_info, Severity::warning, {s_.g.fs_info, CheckState::root},
             fmt::format("FSInfo says that free clusters are found from {} on", next), true);
    }
  }

  using Claim = CheckState::Claim;
  CheckState& s_;
  std::uint64_t unread_copies_ = 0;  // sectors
  bool copy_contradicts_ = false;    // the second boot sector says that things lie elsewhere
};

// Right is the copy that the folders agree with. What is said is then about that one: where it
// isn't the first, the volume's own system sees something else.
void judge_copies(std::unique_ptr<CheckState>& state, const ReadOptions& options) {
  const std::vector<std::uint32_t> copies = state->facts.differing_copies;
  bool unknown = false;
  for (const std::uint32_t copy : copies) {
    if (state->agreement.complete()) break;
    auto other = std::make_unique<CheckState>(state->device, options, copy);
    FatCheck(*other).run();
    const auto right = Agreement::right_of(state->agreement, other->agreement);
    unknown |= right == Agreement::Right::unknown;
    if (right != Agreement::Right::second) continue;
    other->add(
        Rule::fat_copies_differ, Severity::error, {other->differs_at, CheckState::root},
        fmt::format("the FATs differ; the first one isn't as the folders say, {} is{}, so that "
                    "is the right one",
                    ordinal_fat(copy), other->agreement.whole() ? "" : " more so"),
        true);
    if (state->map.left_open()) other->not_clean(state->g.fat_start(0));
    state = std::move(other);
    return;
  }
  const bool right = state->facts.chains_sound && !unknown;
  const std::uint64_t left = state->copies.left;
  const std::string stay =
      left == 0 ? ""
                : fmt::format(
                      "; {} of which nothing on the volume says which is right: {} as "
                      "{} in each",
                      left == 1 ? "one entry differs" : fmt::format("{} entries differ", left),
                      left == 1 ? "it stays" : "they stay", left == 1 ? "it is" : "they are");
  if (right && state->copies.decided == 0) {
    state->add(Rule::fat_copies_differ, Severity::warning, {state->differs_at, CheckState::root},
               "the FATs differ" + stay);
    return;
  }
  const char* text =
      unknown ? "the FATs differ, and each shows something right that the other one doesn't"
      : state->agreement.whole()
          ? "the FATs differ; every chain is sound in the first one, so that is the right one"
      : right ? "the FATs differ; what is wrong in the first one is wrong in the other, too"
              : "the FATs differ, and the chains of the first one are not sound";
  state->add(Rule::fat_copies_differ, right ? Severity::warning : Severity::error,
             {state->differs_at, CheckState::root}, text + (right ? stay : ""), right);
}

}  // namespace

Findings check_volume(const Device& device, const ReadOptions& options, Facts* facts) {
  auto state = std::make_unique<CheckState>(device, options);
  FatCheck(*state).run();
  if (!state->facts.differing_copies.empty()) judge_copies(state, options);
  if (facts != nullptr) *facts = std::move(state->facts);
  return state->log.take();
}

}  // namespace nuvrat::fat
