#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/assessment.h>
#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "base/memory.h"
#include "plan/boot.h"
#include "plan/plan.h"
#include "steps/after.h"

namespace nuvrat::plan {
namespace {

// Twice what any system shows. Each goal is assessed by itself, and each costs what the table has.
constexpr std::size_t max_listed_partitions = 512;

}  // namespace

Assessment start_assessment(const Survey& survey) {
  Assessment out;
  out.tag = survey.tag;
  out.device = survey.device;
  out.before = out.after = survey.table.layout;
  out.findings = survey.all_findings();
  for (const SurveyedPartition& s : survey.partitions) {
    if (s.partition.role == Role::extended) continue;
    const std::string kind = s.volume ? name_of(s.volume->kind) : s.signature.description;
    out.contents.push_back(
        {s.partition.start, kind, s.volume ? s.volume->label : "", kind, Contents::Fate::stays});
  }
  return out;
}

void fill_figures(const Device& device, const Survey& survey, const Pace& pace, Assessment& out) {
  for (const Step& step : out.steps) {
    if (step.volume() == nullptr) continue;
    for (Contents& here : out.contents) {
      // What is new says what it becomes already.
      if (here.fate != Contents::Fate::added &&
          start_before(out.changes, step.volume()->place.first) == here.start)
        here.kind_after = name_of(step.volume()->to);
    }
  }
  for (const SurveyedPartition& s : survey.partitions) {
    if (s.partition.role == Role::extended) continue;
    out.files_bytes += s.volume ? s.totals.bytes : s.partition.sectors * device.sector_size();
  }
  class Collector final : public SectorSink {
   public:
    explicit Collector(std::uint32_t size) : size_(size) {}
    void write(std::uint64_t lba, ByteView data) override {
      sectors.add({lba, data.size() / size_});
    }
    SectorSet sectors;

   private:
    std::uint32_t size_;
  } collector(device.sector_size());
  std::uint64_t volume_sectors = 0;
  for (const Step& step : out.steps) {
    if (step.volume() != nullptr) {
      volume_sectors += step.volume()->writes;
      continue;
    }
    const auto rewrite = make_rewrite(step, device);
    rewrite->prepare(collector);
    rewrite->settle(collector);
    collector.sectors.add({rewrite->switch_sector().lba, 1});
  }
  out.sectors_to_write = collector.sectors.count() + volume_sectors;
  tell_overwritten(device, survey, collector.sectors, out);
  estimate_time(device, survey, pace, volume_sectors, out);
}

void add_finding_obstacles(const disk::DiskState& state, Assessment& out) {
  for (const Finding& f : state.findings) {
    if (f.severity != Severity::error) continue;
    Obstacle obstacle;
    obstacle.code = f.code;
    obstacle.text = f.text;
    if (const std::string where = f.place.text(); !where.empty())
      obstacle.text += " (" + where + ")";
    obstacle.remedy =
        f.code == "fat.not-clean"
            ? "Start the volume once under the system that owns it and close it there"
        : f.repairable ? "Put this right first: 'nuvrat check --repair' mends it, with nothing lost"
                       : "Put this right first: a rewrite of a damaged structure makes it worse";
    out.obstacles.push_back(std::move(obstacle));
  }
}

void plan_table(const PlanInput& input, Assessment& out) {
  const TableKind before = input.state.table.layout.kind;
  const Wishes& wishes = input.wishes;
  const bool no_table = input.state.bare_volume || before == TableKind::none;
  if (no_table ||
      (wishes.table == TableKind::gpt && (wishes.only_table() || before == TableKind::mbr))) {
    plan_table_gpt(input, out);
  } else if (wishes.table == TableKind::mbr || before == TableKind::mbr) {
    plan_table_mbr(input, out);
  } else {
    plan_gpt_change(input, out);
  }
}

namespace {

// The disk as read once, for the assessment of all goals.
struct Look {
  const Device& device;
  const Survey& survey;
  const ReadOptions& options;
  Pace pace;
  std::vector<Obstacle> asleep;

  Look(const Device& from, const Survey& surveyed, const ReadOptions& read)
      : device(from),
        survey(surveyed),
        options(read),
        pace(measure_pace(from, surveyed)),
        asleep(find_asleep(from, surveyed, read)) {}
};

Assessment assess_stages(const Look& look, const std::vector<Goal>& goals, Random& random) {
  const auto& [device, survey, options, pace, asleep] = look;
  disk::DiskState before(survey);
  const Wishes wishes = sort_goals(goals, before);
  // What is wrong with a volume that is to go isn't an obstacle.
  std::erase_if(before.findings, [&wishes](const Finding& f) {
    return std::any_of(wishes.gone.begin(), wishes.gone.end(),
                       [&f](unsigned number) { return f.place.subject == part_name(number); });
  });
  Assessment first = start_assessment(survey);
  first.goals = goals;
  for (const Obstacle& o : asleep) {  // a system whose partition goes never wakes up
    if (wishes.gone.count(o.partition) == 0) first.obstacles.push_back(o);
  }
  if (!first.in_reach()) return first;
  Random none(1);
  const std::vector<Wishes> ways = ways_to_start({device, before, wishes, none}, options, first);
  if (ways.empty()) return first;
  // What is said is what the way lacks that got furthest.
  Assessment furthest;
  for (const Wishes& way : ways) {
    Assessment out = first;
    if (plan_stages(device, before, way, options, random, out))
      fill_figures(device, survey, pace, out);
    if (out.in_reach()) return out;
    if (furthest.obstacles.empty() || out.steps.size() > furthest.steps.size())
      furthest = std::move(out);
  }
  furthest.after = furthest.before;
  return furthest;
}

// The partition that would have to be shorter for a table to find its few sectors; 0: none.
unsigned in_the_way(const Obstacle& o, const Layout& layout) {
  const std::vector<Partition> parts = layout.data_partitions();
  if (o.code == "back-room") return o.partition;
  if (o.code == "no-room-aside") return parts.empty() ? 0 : parts.back().number;
  if (o.code != "no-arrangement" || o.missing_sectors == 0) return 0;
  for (std::size_t i = 1; i < parts.size(); ++i) {  // the one in front of it
    if (parts[i].number == o.partition) return parts[i - 1].number;
  }
  return 0;
}

bool is_about_gaps(const std::vector<Goal>& goals) {
  return std::any_of(goals.begin(), goals.end(), [](const Goal& g) { return g.subject[0] == 'g'; });
}

// Goals that may work where these don't: a volume a little shorter, where a table lacks a few
// sectors; the most or the least, where a size is too large or too small. Empty: none comes to
// mind.
std::vector<Goal> other_goals(const Obstacle& o, const Assessment& a) {
  std::vector<Goal> goals = a.goals;
  const auto size_of = [&goals](unsigned number) {
    const std::string subject = number == 0 ? "volume.size" : fmt::format("p{}.size", number);
    return std::find_if(goals.begin(), goals.end(),
                        [&](const Goal& g) { return g.subject == subject; });
  };
  if (o.code == "no-arrangement" && is_about_gaps(goals) && !o.goals.empty()) {
    goals.insert(goals.end(), o.goals.begin(), o.goals.end());
    return goals;
  }
  if (const unsigned number = in_the_way(o, a.before); number != 0) {
    if (size_of(number) != goals.end()) return {};
    goals.push_back({fmt::format("p{}.size", number), "-1MiB"});
    return goals;
  }
  // Too large for the room that there is, or too small for FAT32: whatever finds room.
  if (o.code == "esp-room" || o.code == "volume-size") {
    if (std::erase_if(goals, [](const Goal& g) { return g.subject == "esp"; }) > 0) return goals;
  }
  const std::string front = fmt::format("p{}.front", o.partition);
  const auto more =
      std::find_if(goals.begin(), goals.end(), [&](const Goal& g) { return g.subject == front; });
  if (o.code == "front-space" && more != goals.end() && more->state != "max") {
    more->state = "max";
    return goals;
  }
  const auto size = size_of(o.partition);
  if (size == goals.end() || size->state == "max" || size->state == "min") return {};
  const bool too_large = o.code == "size-room" || o.code == "volume-size";
  const bool too_small = o.code == "volume-room" || o.code == "front-in-use" ||
                         o.code == "cluster-count" || o.code == "size-zero";
  if (!too_large && !too_small) return {};
  size->state = too_large ? "max" : "min";
  return goals;
}

// Tried on this very disk.
void offer_other_goals(const Look& look, Assessment& out) {
  for (Obstacle& o : out.obstacles) {
    std::vector<Goal> goals = other_goals(o, out);
    if (goals.empty()) continue;
    // What the table's planner named is beside the gap's goal, which it doesn't know.
    if (is_about_gaps(out.goals)) o.goals.clear();
    Random random(1);
    try {
      if (!assess_stages(look, goals, random).in_reach()) continue;
    } catch (const Error&) {
      continue;  // it's only an offer
    }
    std::string words;
    for (const Goal& g : goals) words += " " + g.text();
    o.remedy = "Ask for" + words + (o.remedy.empty() ? "" : "; or: " + o.remedy);
    o.goals = std::move(goals);
  }
}

Assessment assess_surveyed(const Look& look, const std::vector<Goal>& goals, Random& random) {
  Assessment out = assess_stages(look, goals, random);
  offer_other_goals(look, out);
  return out;
}

// What a volume is turned into by most who turn it into anything.
std::optional<std::string> other_kind(const SurveyedPartition& s) {
  if (s.partition.role == Role::extended) return std::nullopt;
  if (is_fat(s.signature.kind)) return "ntfs";
  if (s.signature.kind == VolumeKind::ntfs) return "fat32";
  return std::nullopt;
}

}  // namespace
}  // namespace nuvrat::plan

namespace nuvrat {
using namespace plan;

const char* name_of(Contents::Fate fate) {
  switch (fate) {
    case Contents::Fate::stays:
      return "stays";
    case Contents::Fate::added:
      return "added";
    case Contents::Fate::gone:
      return "gone";
  }
  return "stays";
}

Assessment assess(const Device& device, const std::vector<Goal>& goals, const ReadOptions& options,
                  Random& random) {
  if (goals.empty()) throw Error(ErrorCode::words, "no goal was given", {}, "Say table=gpt");
  const Survey survey = survey_disk(device, options, true);
  base::give_back_memory();  // what the check needed: planning needs as much again
  return assess_surveyed({device, survey, options}, goals, random);
}

std::vector<Assessment> assess_all(const Device& device, const ReadOptions& options,
                                   Random& random) {
  const Survey survey = survey_disk(device, options, true);
  base::give_back_memory();
  const Look look(device, survey, options);
  std::vector<Assessment> out;
  const auto add = [&](const std::string& word) {
    out.push_back(assess_surveyed(look, {parse_goal(word)}, random));
  };
  if (survey.partitions.size() > max_listed_partitions) {
    throw Error(ErrorCode::words,
                fmt::format("the disk has {} partitions, too many to try every goal on each",
                            survey.partitions.size()),
                {}, "Name the goals, such as table=gpt");
  }
  if (survey.bare_volume) {
    if (const auto word = other_kind(survey.partitions[0])) add("volume=" + *word);
    return out;
  }
  const Layout& layout = survey.table.layout;
  add(layout.kind == TableKind::gpt ? "table=mbr" : "table=gpt");
  for (const SurveyedPartition& s : survey.partitions) {
    if (const auto word = other_kind(s)) add(fmt::format("p{}={}", s.partition.number, *word));
  }
  if (layout.kind != TableKind::mbr) return out;
  for (const Partition& p : layout.data_partitions()) {
    add(fmt::format("p{}={}", p.number, p.role == Role::logical ? "primary" : "logical"));
    if (!type_matches(p, recognise_volume(Window(device, p.range())).kind)) {
      add(fmt::format("p{}.type=match", p.number));
    }
    if (p.role == Role::primary && !p.active) add(fmt::format("p{}.active=yes", p.number));
  }
  return out;
}

}  // namespace nuvrat
