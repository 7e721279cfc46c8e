#include <algorithm>
#include <utility>

#include <fmt/core.h>

#include <nuvrat/assessment.h>
#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/rewrite.h>
#include <nuvrat/text.h>

#include "plan/bystanders.h"
#include "plan/stages.h"
#include "steps/after.h"
#include "table/no_partition.h"

namespace nuvrat::plan {
namespace {

// Twice what any system shows. Each goal is assessed by itself, and each costs what the table has.
constexpr std::size_t max_listed_partitions = 512;

// How many bytes of contents are read, of one look at the disk.
std::uint64_t files_bytes_of(const Survey& survey) {
  std::uint64_t out = 0;
  for (const SurveyedPartition& s : survey.partitions) {
    if (s.partition.role == Role::extended) continue;
    out += s.volume ? s.totals.bytes : s.partition.sectors * survey.sector_size;
  }
  return out;
}

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
    out.contents.push_back({.partition = s.partition.id,
                            .kind = kind,
                            .label = s.volume ? s.volume->label : "",
                            .kind_after = kind});
  }
  return out;
}

Assessment with(Assessment before, PlanPart part) {
  Assessment out = std::move(before);
  out.obstacles = std::move(part.obstacles);
  if (!out.in_reach()) return out;  // nothing is said of a plan that nobody may follow
  for (Contents& c : out.contents) {
    for (const Step& step : part.steps) {
      if (step.volume() != nullptr && step.partition() == c.partition)
        c.kind_after = name_of(step.volume()->to);
    }
    const bool gone = part.after && out.before.find(c.partition) != nullptr &&
                      part.after->find(c.partition) == nullptr;
    if (!gone) continue;
    c.kind_after.clear();
    c.fate = Contents::Fate::gone;
  }
  std::move(part.added.begin(), part.added.end(), std::back_inserter(out.contents));
  out.after = part.after.value_or(out.before);
  out.steps = std::move(part.steps);
  out.changes = std::move(part.changes);
  out.consents = std::move(part.consents);
  out.boot = part.boot;
  return out;
}

Assessment with_figures(const Assessment& before, PlanPart part, const Device& device,
                        const Survey& survey, const Pace& pace) {
  Assessment a = with(before, part);
  if (!a.in_reach()) return a;
  a.files_bytes = files_bytes_of(survey);
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
  for (const Step& step : a.steps) {
    if (step.volume() != nullptr) {
      volume_sectors += step.volume()->writes;
      continue;
    }
    const auto rewrite = make_rewrite(step, device);
    rewrite->prepare(collector);
    rewrite->settle(collector);
    collector.sectors.add({rewrite->switch_sector().lba, 1});
  }
  a.sectors_to_write = collector.sectors.count() + volume_sectors;
  const Times times = expected_times(device, survey, pace, volume_sectors, a);
  a.expected_seconds = times.by_contents;
  a.seconds_by_places = times.by_places;
  PlanPart overwritten = tell_overwritten(device, survey, collector.sectors, a);
  if (!overwritten.in_reach()) {
    part.obstacles = std::move(overwritten.obstacles);
    return with(before, std::move(part));
  }
  std::move(overwritten.consents.begin(), overwritten.consents.end(),
            std::back_inserter(a.consents));
  std::stable_sort(a.consents.begin(), a.consents.end(), [](const Consent& x, const Consent& y) {
    return std::pair(row_of(x.code).rank, x.code) < std::pair(row_of(y.code).rank, y.code);
  });
  return a;
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

// Every partition is there, and holds data.
void require_partitions(const goals::Asked& asked, const disk::DiskState& state) {
  for (const Goal& goal : asked.all()) {
    const auto number = goal.partition();
    if (!number) continue;
    if (*number == 0) {
      if (state.bare_volume) continue;
      throw Error(ErrorCode::words, "the disk is not one volume without a partition table", {},
                  "Name the partition: p1=ntfs");
    }
    const Partition* p = state.table.layout.find(*number);
    if (p != nullptr && p->role != Role::extended) continue;
    Error missing = table::no_partition(state.table.layout, *number);
    for (const Finding& f : state.table.findings) {
      if (f.severity != Severity::error) continue;
      throw Error(missing.code(),
                  missing.message() + ", as far as the table can be read: " + f.text, {},
                  missing.remedy());
    }
    throw missing;
  }
}

// The best way to the goals; where none leads there, what is said is what the way lacks that got
// furthest.
Assessment assess_stages(const Look& look, const std::vector<Goal>& goals, Random& random) {
  disk::DiskState state(look.survey);
  const goals::Asked asked(goals);
  require_partitions(asked, state);
  require_sense(asked, state.table.layout.kind);
  // What is wrong with a volume that is to go isn't an obstacle.
  std::erase_if(state.findings, [&asked](const Finding& f) {
    const std::vector<GoneGoal> gone = asked.every<GoneGoal>();
    return std::any_of(gone.begin(), gone.end(), [&f](const GoneGoal& g) {
      return f.place.subject == part_name(g.partition);
    });
  });
  Assessment before = start_assessment(look.survey);
  before.goals = goals;
  PlanPart common;
  for (const Obstacle& o : look.asleep) {  // a system whose partition goes never wakes up
    if (!asked.is_gone(o.partition)) common.obstacles.push_back(o);
  }
  if (!common.in_reach()) return with(std::move(before), std::move(common));
  const PlanInput input{look.device, state, look.options, random, before.before, common};
  Ways found = ways_to_boot(input, asked);
  if (found.ways.empty()) return with(std::move(before), std::move(found.part));
  std::optional<PlanPart> furthest;
  for (const Way& way : found.ways) {
    PlanPart part = found.part;
    part.append(plan_stages(input, asked, way));
    Assessment out = with_figures(before, part, look.device, look.survey, look.pace);
    if (out.in_reach()) return out;
    part.obstacles = std::move(out.obstacles);
    if (!furthest || part.steps.size() > furthest->steps.size()) furthest = std::move(part);
  }
  return with(std::move(before), std::move(*furthest));
}

// The partition that would have to be shorter for a table to find its few sectors; 0: none.
unsigned in_the_way(const Obstacle& o, const Layout& layout) {
  const std::vector<Partition> parts = layout.data_partitions();
  if (o.code == ObstacleCode::back_room) return o.partition;
  if (o.code == ObstacleCode::no_room_aside) return parts.empty() ? 0 : parts.back().number;
  if (o.code != ObstacleCode::no_arrangement || o.missing_sectors == 0) return 0;
  for (std::size_t i = 1; i < parts.size(); ++i) {  // the one in front of it
    if (parts[i].number == o.partition) return parts[i - 1].number;
  }
  return 0;
}

bool is_about_gaps(const std::vector<Goal>& goals) {
  return std::any_of(goals.begin(), goals.end(),
                     [](const Goal& g) { return g.as<GapGoal>() != nullptr; });
}

// What might work in the place of one goal that is refused.
std::optional<std::vector<Goal>> instead_of(const Goal& goal, const Obstacle& o) {
  return std::visit(
      [&o](const auto& kind) -> std::optional<std::vector<Goal>> {
        if constexpr (requires { kind.instead(o); }) {
          return kind.instead(o);
        } else {
          return std::nullopt;
        }
      },
      goal.any());
}

// Goals that may work where these don't: a volume a little shorter, where a table lacks a few
// sectors; else what the goal itself knows. Empty: none comes to mind.
std::vector<Goal> other_goals(const Obstacle& o, const Assessment& a) {
  std::vector<Goal> goals = a.goals;
  if (o.code == ObstacleCode::no_arrangement && is_about_gaps(goals) && !o.goals.empty()) {
    goals.insert(goals.end(), o.goals.begin(), o.goals.end());
    return goals;
  }
  if (const unsigned number = in_the_way(o, a.before); number != 0) {
    if (goals::Asked(goals).find<SizeGoal>(number) != nullptr) return {};
    constexpr std::uint64_t a_little = 1u << 20;
    goals.push_back(SizeGoal{.partition = number, .kind = SizeGoal::Kind::less, .bytes = a_little});
    return goals;
  }
  for (auto goal = goals.begin(); goal != goals.end(); ++goal) {
    const auto others = instead_of(*goal, o);
    if (!others) continue;
    goals.insert(goals.erase(goal), others->begin(), others->end());
    return goals;
  }
  return {};
}

// "Add p3.size=-1MiB"; where one goal takes another's place, all of them.
std::string goals_to_say(const std::vector<Goal>& asked, const std::vector<Goal>& goals) {
  std::vector<Goal> more;
  for (const Goal& goal : goals) {
    if (std::find(asked.begin(), asked.end(), goal) == asked.end()) more.push_back(goal);
  }
  const bool all_stay = more.size() + asked.size() == goals.size();
  return all_stay ? "Add " + texts_of(more) : "Ask for " + texts_of(goals);
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
    o.otherwise = std::exchange(o.remedy, goals_to_say(out.goals, goals));
    o.goals = std::move(goals);
  }
}

Assessment assess_surveyed(const Look& look, const std::vector<Goal>& goals, Random& random) {
  Assessment out = assess_stages(look, goals, random);
  offer_other_goals(look, out);
  return out;
}

// The other way to boot, each with the table that goes with it; both where neither works now.
std::vector<std::vector<Goal>> boot_goals(const Survey& survey) {
  std::vector<std::vector<Goal>> out;
  if (survey.systems.systems.empty()) return out;
  const auto now = survey.systems.boots_by();
  const auto add = [&](BootWay way, TableKind kind) {
    if (now == way) return;
    out.push_back({BootGoal{way}});
    if (survey.table.layout.kind != kind) out.back().push_back(TableGoal{kind});
  };
  add(BootWay::uefi, TableKind::gpt);
  add(BootWay::legacy, TableKind::mbr);
  return out;
}

// What a volume is turned into by most who turn it into anything.
std::optional<VolumeKind> other_kind(const SurveyedPartition& s) {
  if (s.partition.role == Role::extended) return std::nullopt;
  const auto format = format_of(s.signature.kind);
  if (!format) return std::nullopt;
  switch (*format) {
    case VolumeFormat::fat:
      return VolumeKind::ntfs;
    case VolumeFormat::ntfs:
      return VolumeKind::fat32;
  }
  return std::nullopt;
}

}  // namespace
}  // namespace nuvrat::plan

namespace nuvrat {
using namespace plan;

const char* name_of(const Obstacle& obstacle) {
  return obstacle.finding ? name_of(*obstacle.finding) : name_of(obstacle.code);
}

std::vector<Renumbering> Assessment::numbers() const {
  std::vector<Renumbering> out;
  for (const Partition& p : before.data_partitions()) {
    if (const Partition* now = after.find(p.id)) out.push_back({p.number, now->number});
  }
  return out;
}

std::string Assessment::subject_of(const Consent& consent) const {
  if (consent.partition == PartitionId::none) return "";
  const Partition* p = before.find(consent.partition);
  if (p == nullptr) p = after.find(consent.partition);
  return p == nullptr ? "" : part_name(p->number);
}

std::string Assessment::text_of(const Consent& consent) const {
  const std::string subject = subject_of(consent);
  std::string out = (subject.empty() ? "" : subject + ": ") + consent.text;
  if (consent.detail.empty()) return out;
  std::string detail = consent.detail;
  if (detail[0] >= 'a' && detail[0] <= 'z') detail[0] = static_cast<char>(detail[0] - 'a' + 'A');
  return out + ". " + detail;
}

Expectation Assessment::expectation() const {
  std::vector<PartitionStarts> starts;
  for (const Partition& p : before.data_partitions()) {
    const Partition* then = after.find(p.id);
    starts.push_back({p.id, p.start, then == nullptr ? std::nullopt : std::optional(then->start)});
  }
  for (const Partition& p : after.data_partitions()) {
    if (before.find(p.id) == nullptr) starts.push_back({p.id, std::nullopt, p.start});
  }
  return {std::move(starts), changes};
}

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
  return assess_surveyed({device, survey, options}, goals, random);
}

Assessment assess(const Device& device, const std::vector<Goal>& goals,
                  const ReadOptions& options) {
  Random random;
  return assess(device, goals, options, random);
}

std::vector<Assessment> assess_all(const Device& device, const ReadOptions& options,
                                   Random& random) {
  const Survey survey = survey_disk(device, options, true);
  const Look look(device, survey, options);
  std::vector<Assessment> out;
  const auto add = [&](const Goal& goal) { out.push_back(assess_surveyed(look, {goal}, random)); };
  // With a system on the disk, a change of its table alone is hardly ever what is wanted.
  for (const std::vector<Goal>& goals : boot_goals(survey))
    out.push_back(assess_surveyed(look, goals, random));
  if (survey.partitions.size() > max_listed_partitions) {
    throw Error(ErrorCode::words,
                fmt::format("the disk has {} partitions, too many to try every goal on each",
                            survey.partitions.size()),
                {}, "Name the goals, such as table=gpt");
  }
  const Layout& layout = survey.table.layout;
  if (!survey.bare_volume)
    add(TableGoal{layout.kind == TableKind::gpt ? TableKind::mbr : TableKind::gpt});
  for (const SurveyedPartition& s : survey.partitions) {
    if (const auto kind = other_kind(s)) add(KindGoal{s.partition.number, *kind});
  }
  if (layout.kind != TableKind::mbr) return out;
  for (const Partition& p : layout.data_partitions()) {
    add(RoleGoal{p.number, p.role == Role::logical ? Role::primary : Role::logical});
    if (!type_matches(p, recognise_volume(Window(device, p.range())).kind)) add(TypeGoal{p.number});
    if (p.role == Role::primary && !p.active) add(ActiveGoal{p.number, true});
  }
  return out;
}

}  // namespace nuvrat
