// pN.front: a partition and its volume begin earlier, and end where they did.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/volume_traits.h"
#include "plan/room.h"
#include "plan/table.h"
#include "plan/volume.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

constexpr std::uint64_t boot_area_bytes = 8192;  // of NTFS; FAT's hints and copies take less

class Front {
 public:
  Front(const PlanInput& in, unsigned number, std::optional<std::uint64_t> bytes)
      : in_(in),
        bytes_(bytes),
        number_(number),
        layout_(in.state.table.layout),
        s_(*in.state.find(number)),
        sector_(in.device.sector_size()) {}

  PlanPart plan() {
    if (!is_editable(s_)) {
      obstacle(ObstacleCode::size_contents,
               fmt::format("partition {} holds {}, whose size Nuvrat can't change", number_,
                           s_.signature.description.empty() ? "unknown contents"
                                                            : s_.signature.description),
               "NTFS and FAT volumes can begin earlier");
    } else if (!has_errors(s_.findings) && !has_errors(in_.state.table.findings)) {
      plan_volume();  // errors are said already
    }
    return std::move(out_);
  }

 private:
  void plan_volume() {
    const std::uint64_t old = s_.partition.start;
    PlanPart table;
    std::uint64_t start = old;
    const std::vector<std::uint64_t> all = candidates();
    for (const std::uint64_t candidate : all) {
      if (!can_begin(candidate)) continue;
      table = table_from(candidate);
      start = candidate;
      if (table.in_reach()) break;
    }
    if (!out_.in_reach()) return;
    if (start == old)
      return obstacle(
          ObstacleCode::front_space,
          fmt::format("partition {} can't begin at sector {}: the volume's first sectors "
                      "would go over an EBR that the table needs until then",
                      number_, all.front()),
          "Ask for a little more, or less");
    if (table.in_reach())
      out_.append(require_countable(in_, s_, length_of(s_) + old - start));
    else
      out_.append({.obstacles = std::move(table.obstacles)});
    if (!out_.in_reach() || !add_steps(old - start, std::move(table))) return;
    add_consents(start);
    ExpectedChange change;
    change.kind = ExpectedChange::Kind::begins;
    change.partition = s_.partition.id;
    change.size = start;
    out_.changes.push_back(std::move(change));
  }

  void obstacle(ObstacleCode code, std::string text, std::string remedy,
                std::uint64_t missing = 0) {
    out_.obstacle(code, std::move(text), std::move(remedy), missing, number_);
  }

  // What is in front of the partition: where room begins, and what is there, as a sentence.
  struct Limit {
    std::uint64_t first = 0;
    std::string by;
  };
  [[nodiscard]] Limit limit() const {
    Limit out{layout_.kind == TableKind::gpt ? layout_.usable().first
                                             : gpt_first_usable(in_.device.sector_size()),
              layout_.kind == TableKind::gpt ? "the GPT is in front of it"
                                             : "a GPT may need the sectors in front of it one day"};
    for (const Partition& p : layout_.data_partitions()) {
      if (p.start >= s_.partition.start || p.range().end() <= out.first) continue;
      out = {p.range().end(),
             fmt::format("partition {} ends at sector {}", p.number, p.range().last())};
    }
    return out;
  }

  // Sectors that the new start differs by from the old one: whole clusters, so that contents stay.
  [[nodiscard]] std::uint64_t step() const { return s_.volume->cluster_bytes / sector_; }
  // A new boot area must not lie on the old one.
  [[nodiscard]] std::uint64_t least() const {
    return div_up(boot_area_bytes, std::uint64_t{s_.volume->cluster_bytes}) * step();
  }

  // Nothing of the table that is in use up to the switch is where the volume's first sectors go.
  [[nodiscard]] bool can_begin(std::uint64_t start) const {
    std::uint64_t first = 1;
    switch (*format_of(s_.signature.kind)) {
      case VolumeFormat::fat:
        break;
      case VolumeFormat::ntfs:
        first = least();
        break;
    }
    return !in_.state.table.owned.first_overlap({start, first});
  }

  // New starts, the best first. None: an obstacle says why.
  std::vector<std::uint64_t> candidates() {
    const Limit limit = this->limit();
    const std::uint64_t old = s_.partition.start;
    const std::uint64_t room = old - std::min(old, limit.first);
    if (bytes_) {
      const std::uint64_t wanted =
          std::max(least(), div_up(*bytes_, std::uint64_t{s_.volume->cluster_bytes}) * step());
      if (wanted <= room) return {old - wanted};
      obstacle(ObstacleCode::front_space,
               fmt::format("partition {} can't begin {} earlier: {}; {} missing", number_,
                           format_bytes(wanted * sector_), limit.by,
                           plural(wanted - room, "sector is", "sectors are")),
               remedy(room), wanted - room);
      return {};
    }
    std::vector<std::uint64_t> out;
    const std::uint64_t mib = (1u << 20) / sector_;
    // A logical one may need a place for its EBR in front of it, or have an old one there.
    for (const std::uint64_t kept : {std::uint64_t{0}, least(), mib}) {
      const std::uint64_t from = limit.first + kept;
      const std::uint64_t aligned = div_up(from, mib) * mib;
      if (aligned + least() <= old && (old - aligned) % step() == 0) out.push_back(aligned);
      if (from + least() > old) continue;
      const std::uint64_t nearest = old - (old - from) / step() * step();
      if (out.empty() || !can_begin(out.back())) out.push_back(nearest);
    }
    if (out.empty())
      obstacle(ObstacleCode::front_space,
               fmt::format("there is no room in front of partition {}: {}", number_, limit.by),
               "Make room there first: delete or shorten what is in front of it", least());
    return out;
  }

  [[nodiscard]] std::string remedy(std::uint64_t room) const {
    return room < least() ? "Make room there first: delete or shorten what is in front of it"
                          : fmt::format("There is room for {}; p{}.front=max takes it",
                                        format_bytes(room * sector_), number_);
  }

  [[nodiscard]] PlanPart table_from(std::uint64_t start) const {
    TableWish only;
    only.partitions[s_.partition.id].start = start;
    return plan_table(in_, only);
  }

  // The volume's own steps, the last of them together with the table's first.
  bool add_steps(std::uint64_t front, PlanPart table) {
    steps::ToFront both;
    switch (*format_of(s_.signature.kind)) {
      case VolumeFormat::fat: {
        PlanPart volume = plan_volume_fat(in_, number_, {.front = front});
        if (volume.in_reach()) {
          both.fat = std::get<steps::ToFat>(volume.steps.back().work().kind);
          volume.steps.pop_back();
        }
        out_.append(std::move(volume));
        break;
      }
      case VolumeFormat::ntfs:
        both.ntfs = edit(front);
        break;
    }
    if (!out_.in_reach()) return false;
    const Step first = table.steps.front();
    if (const auto* mbr = std::get_if<steps::TableMbr>(&first.work().kind))
      both.mbr = *mbr;
    else if (const auto* gpt = std::get_if<steps::GptAside>(&first.work().kind))
      both.gpt = *gpt;
    else
      throw Error(ErrorCode::guard, "the table's first step is " + first.code(), {},
                  "This is a mistake in Nuvrat: please report it");
    table.steps.front() = Step(first.target(), {std::move(both)});
    out_.append(std::move(table));
    return true;
  }

  steps::EditNtfs edit(std::uint64_t front) {
    steps::EditNtfs work;
    work.change = change_in_place(s_, in_.options);
    work.change.front = front;
    work.sectors = length_of(s_) + front;
    const std::uint64_t start = s_.partition.start - front;
    SectorSet table = in_.state.table.owned;
    while (const auto hit = table.first_overlap({start, front})) {
      work.avoid.push_back({hit->first - start, hit->count});
      table.remove(*hit);
    }
    out_.append(lay_out_edit(in_, s_, "it can't begin earlier", work));
    return work;
  }

  void add_consents(std::uint64_t start) {
    out_.consent(ConsentCode::front, s_.partition.id,
                 fmt::format("its start moves {} towards the front of the disk",
                             format_bytes((s_.partition.start - start) * sector_)),
                 fmt::format("From sector {} to {}{}", s_.partition.start, start,
                             base::traits_of(s_.signature.kind).front_moves_files
                                 ? ""
                                 : "; its files stay where they are"));
  }

  const PlanInput& in_;
  std::optional<std::uint64_t> bytes_;
  PlanPart out_;
  unsigned number_;
  const Layout& layout_;
  const SurveyedPartition& s_;
  std::uint64_t sector_;
};

}  // namespace

PlanPart plan_front(const PlanInput& in, unsigned number, std::optional<std::uint64_t> bytes) {
  return Front(in, number, bytes).plan();
}

}  // namespace nuvrat::plan
