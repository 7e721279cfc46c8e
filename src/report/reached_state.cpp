// The state in which a plan leaves a disk, in one line; not the way there.

#include <algorithm>
#include <cmath>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "report/words.h"

namespace nuvrat::report {
namespace {

class StateTeller {
 public:
  explicit StateTeller(const Assessment& a) : a_(a) {}

  [[nodiscard]] StateWords tell() {
    table();
    for (const Partition& p : a_.before.data_partitions()) {
      if (a_.after.find(p.id) != nullptr) continue;
      deleted_ += (deleted_.empty() ? "" : ", ") + part_name(p.number);
    }
    for (const Contents& c : a_.contents) bare_volume(c);
    for (const Partition& p : a_.after.data_partitions()) {
      const Partition* was = a_.before.find(p.id);
      if (was == nullptr)
        made(p);
      else
        changed(*was, p);
    }
    labels();
    for (const Goal& goal : a_.goals) of_goal(goal);
    StateWords out;
    for (std::size_t i = 0; i < std::min(parts_.size(), max_parts); ++i)
      out.reached += (i == 0 ? "" : ", ") + parts_[i];
    if (parts_.size() > max_parts)
      out.reached += fmt::format(", {} more", parts_.size() - max_parts);
    if (out.reached.empty() && deleted_.empty())
      out.reached = a_.goals.empty() ? step_words(a_) : goal_words(a_);
    if (!deleted_.empty()) out.deleted = deleted_ + " deleted";
    return out;
  }

 private:
  static constexpr std::size_t max_parts = 6;

  void say(std::string text) { parts_.push_back(std::move(text)); }
  void say(const Partition& p, const std::string& text) { say(part_name(p.number) + " " + text); }

  void table() {
    if (a_.before.kind != a_.after.kind) say(table_words(a_.after.kind));
    if (a_.boot) say(a_.boot->way == BootWay::uefi ? "boots by UEFI" : "boots by legacy firmware");
  }

  // Of a disk without a table.
  void bare_volume(const Contents& c) {
    if (c.partition == PartitionId::none && c.kind != c.kind_after)
      say(title_of(kind_named(c.kind_after)));
  }

  [[nodiscard]] std::string size_of(std::uint64_t sectors) const {
    return format_bytes(sectors * a_.before.sector_size);
  }

  void made(const Partition& p) {
    const auto it = std::find_if(a_.contents.begin(), a_.contents.end(),
                                 [&p](const Contents& c) { return c.partition == p.id; });
    const VolumeKind kind =
        it == a_.contents.end() ? VolumeKind::unknown : kind_named(it->kind_after);
    say(fmt::format("new p{}{} of {}", p.number,
                    kind == VolumeKind::unknown ? "" : std::string(" ") + title_of(kind),
                    size_of(p.sectors)));
  }

  void changed(const Partition& was, const Partition& p) {
    for (const Contents& c : a_.contents) {
      if (c.partition == p.id && c.kind != c.kind_after) say(p, title_of(kind_named(c.kind_after)));
    }
    const std::uint64_t end = p.range().end();
    const std::uint64_t old_end = was.range().end();
    if (p.start != was.start)
      say(p, fmt::format("begins {} {}",
                         size_of(std::max(p.start, was.start) - std::min(p.start, was.start)),
                         p.start < was.start ? "earlier" : "later"));
    if (end > old_end) say(p, size_of(end - old_end) + " longer");
    if (end < old_end) say(p, size_of(old_end - end) + " shorter");
    const bool other_table = a_.before.kind != a_.after.kind;
    if (p.number != was.number) say(fmt::format("p{} is now p{}", was.number, p.number));
    if (other_table) return;
    if (p.role != was.role) say(p, name_of(p.role));
    if (p.active != was.active) say(p, p.active ? "active" : "not active");
    if (p.name != was.name) say(p, "named '" + printable(p.name) + "'");
    if (p.type != was.type && !was_rewritten(p.id)) say(p, "of type " + describe(p.type));
  }

  [[nodiscard]] bool was_rewritten(PartitionId id) const {
    return std::any_of(a_.contents.begin(), a_.contents.end(), [id](const Contents& c) {
      return c.partition == id && c.kind != c.kind_after;
    });
  }

  void labels() {
    for (const ExpectedChange& change : a_.changes) {
      if (change.kind != ExpectedChange::Kind::relabelled) continue;
      const Partition* p = a_.after.find(change.partition);
      say(fmt::format("{}label '{}'", p == nullptr ? "" : part_name(p->number) + " ",
                      printable(change.text)));
    }
  }

  // Of goals that neither table nor contents show.
  void of_goal(const Goal& goal) {
    if (const auto* letter = goal.as<LetterGoal>())
      say(fmt::format("p{} gets letter {}", letter->partition, letter->letter));
    if (const auto* cluster = goal.as<ClusterGoal>())
      say(fmt::format("clusters of {}", format_bytes(cluster->bytes)));
  }

  const Assessment& a_;
  std::vector<std::string> parts_{};
  std::string deleted_;
};

}  // namespace

std::string StateWords::with(std::string_view after_deleted) const {
  if (deleted.empty()) return reached;
  return fmt::format("{}{}{}{}", reached, reached.empty() ? "" : "; ", deleted, after_deleted);
}

StateWords reached_state(const Assessment& a) {
  return StateTeller(a).tell();
}

}  // namespace nuvrat::report
