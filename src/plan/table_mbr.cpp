// table=mbr, pN=logical, pN=primary, pN.active: the layout of an MBR, and the steps to it.

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "plan/arrange.h"
#include "plan/table.h"

namespace nuvrat::plan {
namespace {

constexpr std::uint64_t max_lba32 = 0xFFFFFFFF;

class MbrPlanner {
 public:
  MbrPlanner(const PlanInput& input, const TableWish& wish, bool repair)
      : in_(input),
        wish_(wish),
        before_(input.state.table.layout),
        gets_code_(gets_start_code(input.state.table, wish.start_code)),
        repair_(repair) {}

  PlanPart plan() {
    if (!repair_) out_.append({.obstacles = finding_obstacles(in_.state)});
    if (out_.in_reach()) collect();
    if (out_.in_reach()) check_numbers();
    if (out_.in_reach()) find_target();
    if (out_.in_reach()) finish_target();
    if (!out_.in_reach()) return std::move(out_);
    add_consents();
    out_.append(table_steps(
        in_, {.layout = target_, .new_chain = !keeps_roles(), .start_code = wish_.start_code}));
    return std::move(out_);
  }

 private:
  // Partitions that come along, in disk order, with the free sectors of the disk as it is.
  void collect() {
    std::vector<Partition> all = before_.data_partitions();
    apply_room(wish_, all);
    all.insert(all.end(), wish_.made.begin(), wish_.made.end());
    std::sort(all.begin(), all.end(),
              [](const Partition& a, const Partition& b) { return a.start < b.start; });
    for (const Partition& p : all) {
      const TypeClass kind = class_of(p.type);
      if (kind == TypeClass::reserved || kind == TypeClass::bios_boot) {
        out_.consent(ConsentCode::dropped, p.id,
                     fmt::format("is dropped: {}, {}, without files", describe(p.type),
                                 format_bytes(p.sectors * before_.sector_size)),
                     "An MBR has no counterpart for it");
        // A reserved partition holds nothing; boot code is lost, and that is expected.
        if (kind == TypeClass::bios_boot) {
          ExpectedChange change;
          change.kind = ExpectedChange::Kind::gone;
          change.partition = p.id;
          out_.changes.push_back(std::move(change));
        }
        continue;
      }
      request_.partitions.push_back(p);
    }
    SectorSet used = in_.state.table.owned;
    used.add(in_.state.table.copies);
    for (const Partition& p : before_.data_partitions()) used.add(p.range());
    for (const Partition& p : request_.partitions) used.add(p.range());
    request_.free = used.gaps({0, std::min<std::uint64_t>(before_.disk_sectors, max_lba32 + 1)});
    request_.wanted = wish_.roles();
  }

  void check_numbers() {
    for (const Partition& p : request_.partitions) {
      if (p.start <= max_lba32 && p.sectors <= max_lba32) continue;
      const std::uint64_t by = std::max(p.start, p.sectors) - max_lba32;
      out_.obstacle(
          ObstacleCode::past_32_bits,
          fmt::format("{} ({}) {} {}, but an MBR's numbers end at {}: too large by {}", words_of(p),
                      p.range().text(), p.start > max_lba32 ? "begins at" : "has a length of",
                      std::max(p.start, p.sectors), max_lba32, by),
          p.start > max_lba32 ? "Move it, or keep the GPT"
                              : fmt::format("Make it {} sectors shorter, or keep the GPT", by),
          by, p.number);
    }
  }

  // On an MBR whose roles aren't asked about, the entries stay where they are.
  [[nodiscard]] bool keeps_roles() const {
    if (before_.kind != TableKind::mbr || repair_ || changes_logicals()) return false;
    std::size_t slots = wish_.made.size();
    for (const Partition& p : before_.partitions)
      slots += p.role != Role::logical && !wish_.is_gone(p.id) ? 1 : 0;
    // The container follows its contents, so that what it doesn't need can be another's.
    if (const Partition* container = before_.extended(); container != nullptr) {
      for (const Partition& p : request_.partitions) {
        if ((p.role != Role::logical || is_new(p)) && p.range().overlaps(container->range()))
          return false;
      }
    }
    if (slots > 4 && !wish_.made.empty()) return false;
    return std::all_of(wish_.partitions.begin(), wish_.partitions.end(), [&](const auto& wish) {
      return !wish.second.role || before_.find(wish.first)->role == *wish.second.role;
    });
  }

  [[nodiscard]] bool changes_logicals() const {
    return std::any_of(wish_.partitions.begin(), wish_.partitions.end(), [this](const auto& wish) {
      const PartitionWish& p = wish.second;
      return (p.gone || p.sectors || p.start) && before_.find(wish.first)->role == Role::logical;
    });
  }

  void find_target() {
    if (keeps_roles())
      keep_roles();
    else
      find_arrangement();
  }

  void keep_roles() {
    target_ = before_;
    apply_room(wish_, target_.partitions);
    for (Partition p : wish_.made) {
      p.number = 1;
      while (target_.find(p.number) != nullptr) ++p.number;
      target_.partitions.push_back(p);
    }
    target_.sort();
  }

  static bool is_new(const Partition& p) { return p.number == 0; }
  static std::string words_of(const Partition& p) {
    return is_new(p) ? "the new partition" : fmt::format("partition {}", p.number);
  }

  void find_arrangement() {
    if (before_.kind == TableKind::mbr) {  // who isn't asked about stays what he is
      for (const Partition& p : request_.partitions) {
        if (!is_new(p)) request_.wanted.emplace(p.id, p.role);
      }
    }
    if (const auto found = arrange(request_)) {
      build(*found);
    } else {
      explain();
    }
  }

  [[nodiscard]] bool wants(std::size_t index, Role role) const {
    const auto it = request_.wanted.find(request_.partitions[index].id);
    return it != request_.wanted.end() && it->second == role;
  }

  // The first and the last that are to be logical; the first is the number of partitions where none
  // is.
  [[nodiscard]] std::pair<std::size_t, std::size_t> wanted_logicals() const {
    const std::size_t n = request_.partitions.size();
    std::size_t first = n;
    std::size_t last = 0;
    for (std::size_t i = 0; i < n; ++i) {
      if (!wants(i, Role::logical)) continue;
      first = std::min(first, i);
      last = i;
    }
    return {first, last};
  }

  // Which partitions are in the way, what is missing, and other goals that would work.
  void explain() {
    auto [first, last] = wanted_logicals();
    const std::size_t n = request_.partitions.size();
    std::string between;
    for (std::size_t i = first; i < last && i < n; ++i) {
      if (wants(i, Role::primary))
        between += (between.empty() ? "" : ", ") + words_of(request_.partitions[i]);
    }
    if (first == n && n > 4) first = 3, last = n - 1;  // four slots, the fourth a container
    const Shortage missing = first < n ? shortage(request_, first, last) : Shortage{};
    Obstacle o;
    o.code = ObstacleCode::no_arrangement;
    if (!between.empty()) {
      o.text = fmt::format(
          "the extended partition is one range from {} to {}, and {} would be inside it, which is "
          "to be primary",
          words_of(request_.partitions[first]), words_of(request_.partitions[last]), between);
    } else if (missing.missing > 0) {
      explain_shortage(missing, o);
    } else {
      o.text = fmt::format("an MBR has four slots: {} can't all be primary",
                           plural(n, "partition", "partitions"));
    }
    offer_other_goals(o);
    out_.obstacles.push_back(std::move(o));
  }

  void explain_shortage(const Shortage& missing, Obstacle& o) const {
    const Partition& p = request_.partitions[missing.index];
    const std::string sectors = plural(missing.missing, "sector is", "sectors are");
    o.missing_sectors = missing.missing;
    o.partition = p.number;
    if (missing.index == 0) {
      o.text = fmt::format("{} begins at sector {}; {} missing in front of it for its EBR",
                           words_of(p), p.start, sectors);
      o.remedy = fmt::format("Move the start of {} by {}", words_of(p), missing.missing);
      return;
    }
    const Partition& neighbour = request_.partitions[missing.index - 1];
    o.text = fmt::format(
        "{} and {} touch or leave too little between them: {} missing in front of {} for its EBR",
        words_of(neighbour), words_of(p), sectors, words_of(p));
    o.remedy = fmt::format("Make {} {} shorter", words_of(neighbour),
                           plural(missing.missing, "sector", "sectors"));
  }

  // Tried on this very disk: the roles that were asked for, the others as they fit; else all of
  // them but one; else as they fit.
  [[nodiscard]] std::optional<Arrangement> nearest_arrangement() const {
    ArrangeRequest free_choice = request_;
    const std::map<PartitionId, Role> roles = wish_.roles();
    free_choice.wanted = roles;
    if (auto found = arrange(free_choice)) return found;
    for (const auto& wish : roles) {
      free_choice.wanted = roles;
      free_choice.wanted.erase(wish.first);
      if (auto found = arrange(free_choice); found && changes_roles(*found)) return found;
    }
    free_choice.wanted.clear();
    auto found = arrange(free_choice);
    return found && changes_roles(*found) ? found : std::nullopt;
  }

  [[nodiscard]] bool changes_roles(const Arrangement& found) const {
    for (std::size_t i = 0; i < request_.partitions.size(); ++i) {
      const Role role = found.is_logical(i) ? Role::logical : Role::primary;
      if (role != request_.partitions[i].role) return true;
    }
    return false;
  }

  void offer_other_goals(Obstacle& o) const {
    const auto other = nearest_arrangement();
    if (!other) {
      if (o.remedy.empty()) o.remedy = "Keep the table as it is, or delete a partition";
      return;
    }
    if (wish_.kind) o.goals.push_back(TableGoal{TableKind::mbr});
    const std::map<PartitionId, Role> roles = wish_.roles();
    for (std::size_t i = 0; i < request_.partitions.size(); ++i) {
      const Partition& p = request_.partitions[i];
      const Role role = other->is_logical(i) ? Role::logical : Role::primary;
      if (is_new(p)) continue;  // it has no name to ask by, and takes what is left
      const bool asked = roles.contains(p.id);
      if (asked || role != p.role) o.goals.push_back(RoleGoal{p.number, role});
    }
    o.remedy += (o.remedy.empty() ? "Ask for this instead: " : "; or ask for this instead: ") +
                texts_of(o.goals);
  }

  void build(const Arrangement& found) {
    target_.kind = TableKind::mbr;
    target_.sector_size = before_.sector_size;
    target_.disk_sectors = before_.disk_sectors;
    target_.disk_signature = before_.kind == TableKind::mbr
                                 ? before_.disk_signature
                                 : static_cast<std::uint32_t>(in_.random.next() | 1);
    std::set<unsigned> slots{1, 2, 3, 4};
    for (std::size_t i = 0; i < request_.partitions.size(); ++i) {
      const unsigned number = request_.partitions[i].number;
      if (!found.is_logical(i) && number <= 4) slots.erase(number);
    }
    std::optional<Partition> extended;
    if (!found.ebrs.empty()) {
      const Partition* old = before_.extended();
      extended.emplace();
      extended->role = Role::extended;
      const bool keep = old != nullptr && slots.count(old->number) != 0;
      extended->number = keep ? old->number : *slots.begin();
      slots.erase(extended->number);
      extended->start = found.ebrs.front();
      const Partition& last = request_.partitions[found.first + found.ebrs.size() - 1];
      extended->sectors = last.range().end() - extended->start;
      extended->type = old != nullptr ? old->type : PartitionType(std::uint8_t{0x0F});
    }
    for (std::size_t i = 0; i < request_.partitions.size(); ++i) {
      Partition p = request_.partitions[i];

      if (found.is_logical(i)) {
        p.role = Role::logical;
        p.number = static_cast<unsigned>(5 + i - found.first);
        p.table_sector = found.ebrs[i - found.first];
        if (p.active) drop_active(p);
      } else {
        p.role = Role::primary;
        p.table_sector.reset();
        if (p.number == 0 || p.number > 4) {
          p.number = *slots.begin();
          slots.erase(slots.begin());
        }
      }
      to_mbr_type(p);
      target_.partitions.push_back(p);
    }
    if (extended) target_.partitions.push_back(*extended);
    target_.sort();
  }

  void drop_active(Partition& p) {
    p.active = false;
    out_.consent(ConsentCode::active, p.id, "becomes logical, and is active no more",
                 "Firmware boots from primary partitions only");
  }

  void to_mbr_type(Partition& p) {
    if (std::holds_alternative<std::uint8_t>(p.type)) return;
    const SurveyedPartition* surveyed = in_.state.find(p.id);
    const VolumeKind kind = surveyed == nullptr ? VolumeKind::unknown : surveyed->signature.kind;
    const MbrType type = mbr_type_for(p, kind);
    if (type.guessed) {
      out_.consent(
          ConsentCode::type, p.id,
          fmt::format("its type becomes {:02X} ({})", type.byte,
                      describe(PartitionType(type.byte))),
          fmt::format("No MBR type stands for {} ({}). The case keeps the type, and the way back "
                      "restores it",
                      type_text(p.type), describe(p.type)));
    } else if (const Guid back = gpt_type_for(type.byte, kind).guid;
               back != std::get<Guid>(p.type) && class_of(p.type) == TypeClass::data) {
      out_.consent(
          ConsentCode::type, p.id,
          fmt::format("its type becomes {:02X} ({})", type.byte,
                      describe(PartitionType(type.byte))),
          fmt::format("It is {} and holds {}. Back on a GPT it would get {}", describe(p.type),
                      surveyed == nullptr ? "" : surveyed->signature.description,
                      describe(PartitionType(back))));
    }
    p.type = type.byte;
    p.name.clear();
    p.unique_id = Guid();
    p.attributes = 0;
  }

  void finish_target() {
    TableWish small;
    for (const auto& [id, wish] : wish_.partitions)
      small.partitions[id] = {.active = wish.active, .type = wish.type};
    apply_small_wishes(small, target_);
    for (const auto& [id, wish] : wish_.partitions) {
      const Partition* p = target_.find(id);
      if (!wish.active.value_or(false) || p == nullptr || p->role != Role::logical) continue;
      out_.obstacle(
          ObstacleCode::active_logical,
          fmt::format("partition {} is logical: firmware boots from primary partitions only",
                      p->number),
          "Make it primary as well", 0, p->number);
    }
    if (target_ == before_ && !(wish_.start_code && gets_code_))
      out_.obstacle(ObstacleCode::already, "the disk is in this state already",
                    "Nothing needs to be done");
  }

  void add_consents() {
    if (gets_code_)
      out_.consent(ConsentCode::start_code, PartitionId::none,
                   "sector 0 gets a small program that boots the active partition");
    if (before_.kind != TableKind::gpt) {
      const std::vector<Partition> parts = before_.data_partitions();
      if (std::any_of(parts.begin(), parts.end(), [this](const Partition& was) {
            const Partition* is = target_.find(was.id);
            return is != nullptr && is->number != was.number;
          }))
        out_.consent(ConsentCode::renumbered, PartitionId::none, "partitions get other numbers",
                     "A system that names them by number must be told");
      return;
    }
    out_.consent(ConsentCode::gpt_only, PartitionId::none,
                 "names, unique ids and attributes of partitions are lost",
                 "An MBR has no place for them");
  }

  const PlanInput& in_;
  const TableWish& wish_;
  const Layout& before_;
  bool gets_code_;
  PlanPart out_;
  ArrangeRequest request_;
  Layout target_;
  bool repair_;
};

}  // namespace

PlanPart plan_table_mbr(const PlanInput& input, const TableWish& wish) {
  return MbrPlanner(input, wish, false).plan();
}

PlanPart plan_chain_repair(const PlanInput& input) {
  return MbrPlanner(input, {}, true).plan();
}

}  // namespace nuvrat::plan
