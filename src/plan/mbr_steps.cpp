// From the MBR or GPT as it is to the layout of an MBR that is wanted: which sectors are written,
// in which steps.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>

#include "base/start_code.h"
#include "plan/arrange.h"
#include "plan/table.h"
#include "steps/kinds.h"

namespace nuvrat::plan {
namespace {

constexpr std::uint64_t max_lba = 0xFFFFFFFF;

class MbrSteps {
 public:
  MbrSteps(const PlanInput& in, const TableTarget& target)
      : in_(in),
        before_(in.state.table.layout),
        target_(target.layout),
        gets_code_(gets_start_code(in.state.table, target.start_code)) {}

  PlanPart make(bool new_chain) {
    if (!new_chain && same_chain()) {
      change_entries();
    } else {
      make_chain();
    }
    out_.append({.steps = follow_hidden_sectors(in_, target_), .after = target_});
    return std::move(out_);
  }

 private:
  void make_chain() {
    SectorSet old = in_.state.table.owned;
    old.add(in_.state.table.copies);
    old.remove({0, 1});
    // Headers of a GPT last: as long as one is there, what is left of it can be found from the
    // disk.
    const SectorSet headers = before_.kind == TableKind::gpt
                                  ? SectorSet{{1, 1}, {before_.disk_sectors - 1, 1}}
                                  : SectorSet{};
    // What a partition has grown over is its volume's affair from now on, but for these: with one
    // of them left there would be two tables.
    SectorSet covered;
    for (const Partition& p : target_.data_partitions()) covered.add(p.range());
    covered.remove(headers);
    old.remove(covered);
    SectorSet rest = old;
    rest.remove(headers);
    old.remove(rest);
    std::vector<SectorRange> wipes = rest.ranges();
    for (const SectorRange& r : old) wipes.push_back(r);
    new_chain_ = target_.extended() != nullptr;
    add_table_step(target_, std::move(wipes));
    tidy_chain();
  }

  void add_table_step(const Layout& target, std::vector<SectorRange> wipes) {
    out_.steps.push_back(Step(target, {steps::TableMbr{std::move(wipes), sector0(), new_chain_}}));
  }

  // The first sector as it is. Where it was a GPT's, and no code is there, a machine that starts
  // the disk would run zeros.
  [[nodiscard]] Bytes sector0() {
    Bytes out = in_.state.table.sector0;
    if (!gets_code_) return out;
    const ByteView code = base::mbr_start_code();
    std::copy(code.begin(), code.end(), out.begin());
    return out;
  }

  // The container and every link are where they were, about what they were about: only types of
  // logicals differ.
  [[nodiscard]] bool same_chain() const {
    const auto chain_of = [](const Layout& layout) {
      std::vector<Partition> out;
      for (const Partition& p : layout.partitions) {
        if (p.role != Role::primary) out.push_back(p);
      }
      return out;
    };
    const std::vector<Partition> a = chain_of(before_);
    const std::vector<Partition> b = chain_of(target_);
    return before_.kind == TableKind::mbr &&
           std::equal(a.begin(), a.end(), b.begin(), b.end(),
                      [](const Partition& x, const Partition& y) {
                        return x.number == y.number && x.role == y.role && x.start == y.start &&
                               x.sectors == y.sectors && x.table_sector == y.table_sector;
                      });
  }

  // LBA 0 for the primaries, an EBR's one sector for each logical.
  void change_entries() {
    Layout stage = target_;
    for (Partition& p : stage.partitions) {
      if (p.role == Role::logical) p = *before_.find(p.number);
    }
    if (stage != before_ || gets_code_) add_table_step(stage, {});
    for (Partition& p : stage.partitions) {
      if (p.role != Role::logical) continue;
      const Partition& wanted = *target_.find(p.number);
      if (p.type == wanted.type) continue;
      p.type = wanted.type;
      steps::EbrType work{p.table_sector.value(), in_.device.read(p.table_sector.value())};
      work.sector[type_place(work.sector, p)] = std::get<std::uint8_t>(p.type);
      out_.steps.push_back(Step(stage, {std::move(work)}));
    }
  }

  // Where in its EBR the type of a logical is.
  static std::size_t type_place(ByteView ebr, const Partition& p) {
    constexpr std::size_t first_entry = 446;
    for (std::size_t at = first_entry; at < first_entry + 64; at += 16) {
      std::uint64_t start = 0;
      for (std::size_t i = 4; i > 0; --i) start = start << 8 | ebr[at + 8 + i - 1];
      const bool named = ebr[at + 4] != 0 && !is_extended_type(ebr[at + 4]);
      if (named && *p.table_sector + start == p.start) return at + 4;
    }
    throw Error(ErrorCode::damaged, fmt::format("the EBR at sector {} doesn't name partition {}",
                                                *p.table_sector, p.number));
  }

  // An EBR in front of a partition that isn't its own makes the chain's ranges overlap. Where a
  // partition that is dropped leaves a place after its neighbour, the chain goes there in a second
  // step. From an MBR it doesn't: the places of the old EBRs are kept for the way back.
  void tidy_chain() {
    if (before_.kind != TableKind::gpt || !chain_overlaps(target_)) return;
    ArrangeRequest again;
    SectorSet used{{0, 1}};
    for (const Partition& p : target_.data_partitions()) {
      again.partitions.push_back(p);
      again.wanted[p.id] = p.role;
      used.add(p.range());
      if (p.table_sector) used.add({*p.table_sector, 1});
    }
    again.free = used.gaps({0, std::min<std::uint64_t>(before_.disk_sectors, max_lba + 1)});
    const auto found = arrange(again);
    if (!found) return;
    Layout tidied = target_;
    std::vector<SectorRange> wipes;
    for (std::size_t i = 0; i < again.partitions.size(); ++i) {
      if (!found->is_logical(i)) continue;
      for (Partition& p : tidied.partitions) {
        if (p.id != again.partitions[i].id) continue;
        wipes.push_back({*p.table_sector, 1});
        p.table_sector = found->ebrs[i - found->first];
      }
    }
    for (Partition& p : tidied.partitions) {
      if (p.role != Role::extended) continue;
      const std::uint64_t end = p.range().end();
      p.start = found->ebrs.front();
      p.sectors = end - p.start;
    }
    if (chain_overlaps(tidied)) return;
    tidied.sort();
    target_ = tidied;
    add_table_step(target_, std::move(wipes));
  }

  static bool chain_overlaps(const Layout& layout) {
    const Partition* previous = nullptr;
    for (const Partition& p : layout.partitions) {  // in the order of the disk
      if (p.role != Role::logical) continue;
      if (previous != nullptr && *p.table_sector < previous->range().end()) return true;
      previous = &p;
    }
    return false;
  }

  const PlanInput& in_;
  const Layout& before_;
  Layout target_;
  PlanPart out_;
  bool gets_code_;
  bool new_chain_ = false;
};

}  // namespace

bool gets_start_code(const TableReading& before, bool needed) {
  constexpr std::size_t code_bytes = 440;
  return (before.layout.kind == TableKind::gpt || needed) &&
         all_zero(ByteView(before.sector0).first(code_bytes));
}

PlanPart mbr_steps(const PlanInput& input, const TableTarget& target) {
  return MbrSteps(input, target).make(target.new_chain);
}

}  // namespace nuvrat::plan
