#include <algorithm>
#include <chrono>

#include <fmt/format.h>

#include <nuvrat/assessment.h>
#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>

#include "plan/plan.h"

namespace nuvrat {
namespace {

// Twice what any system shows. Each goal is assessed by itself, and each costs what the table has.
constexpr std::size_t most_listed_partitions = 512;

// Bytes a second of plain reading, taken from where files are.
double read_speed(const Device& device, const Layout& layout) {
  std::uint64_t at = 0;
  for (const Partition& p : layout.data_partitions()) {
    at = p.start;
    break;
  }
  const std::uint64_t piece = (4u << 20) / device.sector_size();
  const auto begin = std::chrono::steady_clock::now();
  std::uint64_t bytes = 0;
  double seconds = 0;
  for (int i = 0; i < 8 && seconds < 0.2; ++i) {
    const std::uint64_t count = std::min(piece, device.sectors() - std::min(at, device.sectors()));
    if (count == 0) break;
    device.forget({at, count});
    try {
      bytes += device.read(at, count).size();
    } catch (const Error&) {
      break;  // a bad place is no measure of speed
    }
    at += count;
    seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
  }
  return bytes == 0 || seconds <= 0 ? 0 : static_cast<double>(bytes) / seconds;
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
    out.contents.push_back({s.partition.start, kind, s.volume ? s.volume->label : "", kind});
  }
  return out;
}

void fill_figures(const Device& device, const Survey& survey, Assessment& out) {
  for (const Step& step : out.steps) {
    if (step.volume() == nullptr) continue;
    for (Contents& here : out.contents) {
      if (step.volume()->place.first == here.start) here.kind_after = name_of(step.volume()->to);
    }
  }
  for (const SurveyedPartition& s : survey.partitions) {
    if (s.partition.role == Role::extended) continue;
    out.files_bytes += s.volume ? s.volume->bytes - std::min(s.volume->bytes, s.volume->free_bytes)
                                : s.partition.sectors * device.sector_size();
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
  // Contents are hashed before and after; hashing itself runs at some 400 MB a second.
  const double speed = read_speed(device, survey.table.layout);
  if (speed > 0) {
    // What is written is made twice, kept for the way back, and read again.
    const double work = 2.0 * static_cast<double>(out.files_bytes) +
                        6.0 * static_cast<double>(volume_sectors * device.sector_size());
    out.expected_seconds = work / std::min(speed, 4e8) + 0.15;
  }
}

void add_finding_obstacles(const Survey& survey, Assessment& out) {
  for (const Finding& f : survey.all_findings()) {
    if (f.severity != Severity::error) continue;
    Obstacle obstacle;
    obstacle.code = f.code;
    obstacle.text = f.text;
    if (const std::string where = f.place.text(); !where.empty())
      obstacle.text += " (" + where + ")";
    obstacle.remedy = f.code == "fat.not-clean"
                          ? "Start the volume once under the system that owns it and close it there"
                          : "Put this right first: a rewrite of a damaged structure makes it worse";
    out.obstacles.push_back(std::move(obstacle));
  }
}

std::uint64_t used_sectors(const Device& device, SectorRange range, std::uint64_t limit) {
  std::uint64_t used = 0;
  const std::uint64_t end = std::min({range.end(), range.first + limit, device.sectors()});
  for (std::uint64_t lba = range.first; lba < end; ++lba) {
    if (!all_zero(device.read(lba))) ++used;
  }
  return used;
}

namespace {

// The survey is changed on the way: planners see the disk as the steps before theirs leave it.
Assessment assess_surveyed(const Device& device, Survey survey, const std::vector<Goal>& goals,
                           const ReadOptions& options, Random& random) {
  Wishes wishes = sort_goals(goals, survey);
  Assessment out = start_assessment(survey);
  const Layout before = out.before;
  out.goals = goals;
  if (!wishes.volumes.empty()) {
    plan_volumes(device, options, random, survey, wishes, out);
    const bool only_volumes = !wishes.table && wishes.roles.empty() && wishes.active.empty() &&
                              wishes.names.empty() && wishes.types.empty();
    if (only_volumes || !out.in_reach()) {
      for (const Partition& p : before.data_partitions())
        out.numbers.push_back({p.number, p.number});
      if (out.in_reach()) fill_figures(device, survey, out);
      return out;
    }
  }
  const PlanInput input{device, survey, wishes, random};
  const bool no_table = survey.bare_volume || before.kind == TableKind::none;
  const bool only_table =
      wishes.roles.empty() && wishes.active.empty() && wishes.names.empty() && wishes.types.empty();
  if (no_table ||
      (wishes.table == TableKind::gpt && (only_table || before.kind == TableKind::mbr))) {
    plan_table_gpt(input, out);
  } else if (wishes.table == TableKind::mbr || before.kind == TableKind::mbr) {
    plan_table_mbr(input, out);
  } else {
    plan_gpt_change(input, out);
  }
  fill_figures(device, survey, out);
  return out;
}

}  // namespace

Assessment assess(const Device& device, const std::vector<Goal>& goals, const ReadOptions& options,
                  Random& random) {
  if (goals.empty()) throw Error(ErrorCode::words, "no goal was given", {}, "Say table=gpt");
  return assess_surveyed(device, survey_disk(device, options, true), goals, options, random);
}

std::vector<Assessment> assess_all(const Device& device, const ReadOptions& options,
                                   Random& random) {
  const Survey survey = survey_disk(device, options, true);
  std::vector<Assessment> out;
  const auto add = [&](const std::string& word) {
    out.push_back(assess_surveyed(device, survey, {parse_goal(word)}, options, random));
  };
  if (survey.partitions.size() > most_listed_partitions) {
    throw Error(ErrorCode::words,
                fmt::format("the disk has {} partitions, too many to try every goal on each",
                            survey.partitions.size()),
                {}, "Name the goals, such as table=gpt");
  }
  if (survey.bare_volume) {
    if (is_fat(survey.partitions[0].signature.kind)) add("volume=ntfs");
    return out;
  }
  const Layout& layout = survey.table.layout;
  add(layout.kind == TableKind::gpt ? "table=mbr" : "table=gpt");
  for (const SurveyedPartition& s : survey.partitions) {
    const unsigned number = s.partition.number;
    if (is_fat(s.signature.kind)) add(fmt::format("p{}=ntfs", number));
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
