#include <algorithm>
#include <chrono>

#include <fmt/format.h>

#include <nuvrat/assessment.h>
#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "plan/ahead.h"
#include "plan/plan.h"
#include "steps/after.h"

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

void add_finding_obstacles(const DiskState& state, Assessment& out) {
  for (const Finding& f : state.findings) {
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

// A partition whose volume becomes another kind gets the type that goes with it, unless told.
Wishes with_types(Wishes wishes, const DiskState& before, const DiskState& after, Assessment& out) {
  for (const SurveyedPartition& s : after.volumes) {
    const Partition& p = s.partition;
    const SurveyedPartition* was = before.at(p.start);
    if (p.number == 0 || was == nullptr || was->signature.kind == s.signature.kind) continue;
    const PartitionType type = matching_type(p, s.signature.kind);
    if (type == p.type || !wishes.types.emplace(p.number, type).second) continue;
    out.consents.push_back(
        {"type",
         fmt::format("the type of partition {} becomes {} ({}) instead of {} ({})", p.number,
                     type_text(type), describe(type), type_text(p.type), describe(p.type))});
  }
  return wishes;
}

// Stage by stage, each planned from the disk as the steps before it leave it: kinds of volumes;
// labels; volumes that become shorter; the table; new partitions in the gaps that there are then;
// volumes that become longer.
class Stages {
 public:
  Stages(const Device& device, const Survey& survey, const Wishes& wishes,
         const ReadOptions& options, Random& random, Assessment& out)
      : before_(survey),
        ahead_(device, before_),
        wishes_(wishes),
        options_(options),
        random_(random),
        out_(out) {}

  /// Whether figures make sense: nothing is in the way of the volumes.
  bool run() {
    if (changes_volumes() || !wishes_.gone.empty()) add_finding_obstacles(before_, out_);
    const bool fine = volumes() && labels() && sizes();
    if (!fine) {
      keep_numbers();
      return false;
    }
    if (!table()) return true;
    return new_partitions() && longer();
  }

 private:
  [[nodiscard]] bool changes_volumes() const {
    return !wishes_.volumes.empty() || !wishes_.labels.empty() || !wishes_.sizes.empty();
  }
  // What later stages read isn't the disk as it is.
  [[nodiscard]] bool needs_overlay() const {
    return !wishes_.labels.empty() || !wishes_.sizes.empty() || !wishes_.gaps.empty();
  }
  [[nodiscard]] PlanInput input(const Wishes& wishes) {
    const Device& device = ahead_.device(options_);
    return {device, ahead_.state(), wishes, random_};
  }
  template <typename Plan>
  bool stage(Plan plan) {
    const std::size_t planned = out_.steps.size();
    plan();
    if (!out_.in_reach()) return false;
    ahead_.add(out_.steps, planned);
    return true;
  }
  void keep_numbers() {
    for (const Partition& p : out_.before.data_partitions())
      out_.numbers.push_back({p.number, p.number});
  }

  // Each from the disk as it is: they don't touch each other.
  bool volumes() {
    const PlanInput in = input(wishes_);
    return stage([&] {
      for (const auto& [number, wish] : wishes_.volumes) {
        if (wish.kind == VolumeKind::ntfs) {
          plan_volume_ntfs(in, options_, number, out_);
        } else {
          plan_volume_fat(in, options_, number, wish, out_);
        }
      }
    });
  }

  bool labels() {
    if (wishes_.labels.empty()) return true;
    const PlanInput in = input(wishes_);
    return stage([&] {
      for (const auto& [number, label] : wishes_.labels)
        plan_volume_label(in, options_, number, label, out_);
    });
  }

  // What becomes shorter now, and what becomes longer when the table has made room.
  bool sizes() {
    of_table_ = with_types(wishes_, before_, ahead_.state(), out_);
    if (wishes_.sizes.empty()) return true;
    const PlanInput in = input(wishes_);
    return stage([&] {
      const auto lengths = resolve_sizes(in, options_, out_);
      for (const auto& [number, sectors] : lengths) {
        const SurveyedPartition& s = *in.state.find(number);
        if (sectors != s.partition.sectors) of_table_.lengths[number] = sectors;
        if (sectors < length_of(s)) {
          plan_volume_size(in, options_, number, sectors, out_);
        } else if (sectors > length_of(s)) {
          longer_[s.partition.start] = sectors;
        } else if (sectors == s.partition.sectors && wishes_.sizes.size() == 1 &&
                   !of_table_.any_of_table()) {
          add_obstacle(out_, "already",
                       fmt::format("partition {} can't be any {}", number,
                                   wishes_.sizes.at(number).kind == SizeWish::Kind::min ? "shorter"
                                                                                        : "longer"),
                       "Nothing needs to be done", 0, number);
        }
      }
    });
  }

  bool table() {
    const bool only_volumes = changes_volumes() || !wishes_.gaps.empty();
    if (only_volumes && !of_table_.any_of_table()) {
      keep_numbers();
      return true;
    }
    add_losses();
    // What another table or role needs may be the very room that is given up: that comes first.
    Wishes less;
    std::swap(less.gone, of_table_.gone);
    for (const auto& [number, sectors] : of_table_.lengths) {
      if (sectors < before_.find(number)->partition.sectors) less.lengths[number] = sectors;
    }
    for (const auto& [number, sectors] : less.lengths) of_table_.lengths.erase(number);
    if (!less.any_of_table()) return table_stage(of_table_);
    if (!table_stage(less)) return false;
    return !of_table_.any_of_table() || table_stage(renumbered(of_table_));
  }

  bool table_stage(const Wishes& wishes) {
    std::vector<Renumbering> so_far = std::move(out_.numbers);
    out_.numbers.clear();
    const Device& device =
        needs_overlay() || !so_far.empty() ? ahead_.device(options_) : ahead_.device_before();
    const PlanInput in{device, ahead_.state(), wishes, random_};
    if (!stage([&] { plan_table(in, out_); })) return false;
    if (so_far.empty()) return true;
    for (Renumbering& r : so_far) {
      for (const Renumbering& next : out_.numbers) {
        if (next.before != r.after) continue;
        r.after = next.after;
        break;
      }
    }
    out_.numbers = std::move(so_far);
    return true;
  }

  // By the numbers that partitions have once some are gone.
  [[nodiscard]] Wishes renumbered(const Wishes& wishes) const {
    const auto change = [this](auto& map) {
      std::decay_t<decltype(map)> out;
      for (auto& [number, value] : map)
        out.emplace(ahead_.state().at(before_.find(number)->partition.start)->partition.number,
                    value);
      map = std::move(out);
    };
    Wishes out = wishes;
    change(out.roles);
    change(out.active);
    change(out.names);
    change(out.types);
    change(out.lengths);
    return out;
  }

  // What goes with partitions that are to be gone.
  void add_losses() {
    for (const unsigned number : wishes_.gone) {
      const SurveyedPartition& s = *before_.find(number);
      ExpectedChange change;
      change.kind = ExpectedChange::Kind::gone;
      change.start = s.partition.start;
      out_.changes.push_back(std::move(change));
      for (Contents& c : out_.contents) {
        if (c.start == s.partition.start) c.kind_after = "gone";
      }
      out_.consents.push_back({"gone", lost_words(s)});
    }
  }

  std::string lost_words(const SurveyedPartition& s) {
    const std::string what =
        fmt::format("partition {} ({}, {})", s.partition.number,
                    format_bytes(s.partition.sectors * out_.before.sector_size),
                    s.signature.description.empty() ? "unknown contents" : s.signature.description);
    const Window window(ahead_.device_before(), s.partition.range());
    const auto reader = s.volume ? open_volume(window, options_) : nullptr;
    if (reader == nullptr)
      return what +
             " is deleted, with whatever is on it: Nuvrat can't read it, and records "
             "nothing but a hash";
    const FileTree& tree = reader->tree();
    return fmt::format("{}{} is deleted, with {} and {} of contents", what,
                       s.volume->label.empty() ? "" : " '" + printable(s.volume->label) + "'",
                       plural(tree.file_count(), "file", "files"),
                       format_bytes(tree.total_bytes()));
  }

  bool new_partitions() {
    if (wishes_.gaps.empty()) return true;
    const PlanInput in = input(wishes_);
    return stage([&] { plan_new_partitions(in, options_, out_); });
  }

  bool longer() {
    for (const auto& [start, sectors] : longer_) {
      const PlanInput in = input(wishes_);
      const unsigned number = in.state.at(start)->partition.number;
      const std::uint64_t length = sectors;
      if (!stage([&] { plan_volume_size(in, options_, number, length, out_); })) return false;
    }
    return true;
  }

  DiskState before_;
  Ahead ahead_;
  const Wishes& wishes_;
  Wishes of_table_;
  const ReadOptions& options_;
  Random& random_;
  Assessment& out_;
  std::map<std::uint64_t, std::uint64_t> longer_;  // by start, in sectors
};

Assessment assess_stages(const Device& device, const Survey& survey, const std::vector<Goal>& goals,
                         const ReadOptions& options, Random& random) {
  const Wishes wishes = sort_goals(goals, DiskState(survey));
  Assessment out = start_assessment(survey);
  out.goals = goals;
  if (Stages(device, survey, wishes, options, random, out).run()) fill_figures(device, survey, out);
  if (!out.in_reach()) out.after = out.before;
  return out;
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

// Where a table fails for a few sectors, goals that make them, tried on this very disk.
void offer_room(const Device& device, const Survey& survey, const ReadOptions& options,
                Assessment& out) {
  for (Obstacle& o : out.obstacles) {
    const unsigned number = in_the_way(o, out.before);
    if (number == 0) continue;
    const Goal shorter{fmt::format("p{}.size", number), "-1MiB"};
    std::vector<Goal> goals = out.goals;
    if (std::any_of(goals.begin(), goals.end(),
                    [&](const Goal& g) { return g.subject == shorter.subject; }))
      continue;
    goals.push_back(shorter);
    Random trial(1);
    try {
      if (!assess_stages(device, survey, goals, options, trial).in_reach()) continue;
    } catch (const Error&) {
      continue;  // it's only an offer
    }
    std::string words;
    for (const Goal& g : goals) words += " " + g.text();
    o.remedy = fmt::format("Ask for{}: its volume and partition {} become 1 MiB shorter first",
                           words, number);
    o.goals = std::move(goals);
  }
}

Assessment assess_surveyed(const Device& device, const Survey& survey,
                           const std::vector<Goal>& goals, const ReadOptions& options,
                           Random& random) {
  Assessment out = assess_stages(device, survey, goals, options, random);
  offer_room(device, survey, options, out);
  return out;
}

}  // namespace

Assessment assess(const Device& device, const std::vector<Goal>& goals, const ReadOptions& options,
                  Random& random) {
  if (goals.empty()) throw Error(ErrorCode::words, "no goal was given", {}, "Say table=gpt");
  return assess_surveyed(device, survey_disk(device, options, true), goals, options, random);
}

// What a volume is turned into by most who turn it into anything.
static std::optional<std::string> other_kind(const SurveyedPartition& s) {
  if (s.partition.role == Role::extended) return std::nullopt;
  if (is_fat(s.signature.kind)) return "ntfs";
  if (s.signature.kind == VolumeKind::ntfs) return "fat32";
  return std::nullopt;
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
