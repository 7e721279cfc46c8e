// Whole or not at all, wherever the power fails; and a way on and a way back from there.

#include <algorithm>
#include <filesystem>

#include "recorded_job.h"
#include "scenarios.h"
#include "support.h"

using namespace nuvrat;
using support::utc;
namespace fs = std::filesystem;

namespace {

struct Counts {
  std::uint64_t cuts = 0, same = 0, run = 0, old_disk = 0, new_disk = 0, chain = 0, resumed = 0,
                reverted = 0, twice = 0, unreadable = 0;
};

class Trial {
 public:
  Trial(const scenarios::Scenario& scenario, PhysicalSector physical, Counts& counts)
      : counts_(counts) {
    original_ = std::make_unique<MemoryDevice>(scenario.sectors, scenario.sector_size, physical);
    scenario.make(*original_);
    assessment_ = scenario.assess(*original_);
    for (const Obstacle& o : assessment_.obstacles) MESSAGE(o.text);
    REQUIRE(assessment_.in_reach());
    findings_ = survey_disk(*original_, utc(), true).all_findings();
    seals_ = scenarios::seals_on_the_way(*original_, assessment_);
    recorded_ = std::make_unique<support::RecordedJob>(*original_, assessment_);
    before_ = look(survey_disk(*original_, utc()));
    after_ = look(survey_disk(recorded_->result(), utc()));
  }

  [[nodiscard]] std::uint64_t sectors() const { return recorded_->sectors(); }

  void cut_at(std::uint64_t sector, FaultPlan::Keep keep, std::uint64_t seed) {
    CAPTURE(sector);
    CAPTURE(seed);
    const auto job = folder_ / "cut";
    FaultPlan plan;
    plan.cut_before = sector;
    plan.keep = keep;
    plan.seed = seed;
    const auto disk = cut(plan, job);
    if (disk == nullptr) return;
    must_be_old_or_new(*disk, true);
    resume(*disk, job, seed);
    revert(*disk, job, seed);
    fs::remove_all(job);
  }

  // Beyond what is taken for granted of a device: the physical sector being written when the power
  // failed is neither old nor new. Nothing is said of such a disk but that the case mends it.
  void mangle_at(std::uint64_t sector, FaultPlan::AtCut at_cut, std::uint64_t seed) {
    CAPTURE(sector);
    CAPTURE(seed);
    CAPTURE(static_cast<int>(at_cut));
    const auto job = folder_ / "cut";
    FaultPlan plan;
    plan.cut_before = sector;
    plan.at_cut = at_cut;
    plan.seed = seed;
    const auto disk = cut(plan, job);
    if (disk == nullptr) return;
    // Half of the garbled ones can't even be read.
    const bool unreadable = at_cut == FaultPlan::AtCut::garbled && seed % 2 == 0;
    const auto each_way = [&](const char* way, auto finish, const MemoryDevice& wanted) {
      CAPTURE(way);
      const auto mangled = disk->clone();
      const auto copy = folder_ / "mangled";
      fs::copy(job, copy, fs::copy_options::recursive);
      FaultPlan readings;
      if (unreadable) {
        const auto torn = Journal::open(copy / "undo.journal").torn_sector(*mangled);
        if (torn) readings.bad_reads_until_written.add(*torn);
        counts_.unreadable += torn ? 1 : 0;
      }
      FaultDevice seen(*mangled, readings);
      finish(seen, load_case(copy));
      seen.flush();
      CHECK(mangled->same_as(wanted));
      fs::remove_all(copy);
    };
    each_way(
        "resume", [&](Device& d, const CaseFile& c) { CHECK(resume_case(d, c, quiet_).sound()); },
        recorded_->result());
    ++counts_.resumed;
    each_way(
        "revert",
        [&](Device& d, const CaseFile& c) { (void)revert_case(d, c, {.compare = false}, quiet_); },
        *original_);
    ++counts_.reverted;
    fs::remove_all(job);
  }

 private:
  // The disk and the case as the power left them, or nothing where an earlier cut left the same.
  // Now and then the job runs, and meets a device that fails: the disk must be the same then, and
  // the case is that of a process that lived on.
  std::unique_ptr<MemoryDevice> cut(const FaultPlan& plan, const fs::path& job) {
    auto out = recorded_->cut(plan);
    const std::uint64_t kept = recorded_->copy_case(plan.cut_before.value(), job);
    for (const auto& [other, disk] : tried_) {
      if (other != kept || !disk->same_as(*out)) continue;
      ++counts_.same;
      fs::remove_all(job);
      return nullptr;
    }
    tried_.emplace_back(kept, out->clone());
    if (++counts_.cuts % 8 != 1) return out;
    fs::remove_all(job);
    const auto disk = original_->clone();
    FaultDevice device(*disk, plan);
    CHECK(support::code_of([&] {
            (void)run_job(device, assessment_, support::case_in_memory(job), quiet_);
          }) == ErrorCode::cut_off);
    CHECK(disk->same_as(*out));
    ++counts_.run;
    return out;
  }

  // What people see of a disk: its table, and what each volume is.
  struct Look {
    Layout layout;
    std::vector<VolumeKind> kinds;
    bool operator==(const Look&) const = default;
  };
  static Look look(const Survey& survey) {
    Look out;
    if (!survey.bare_volume) out.layout = survey.table.layout;
    for (const SurveyedPartition& p : survey.partitions) out.kinds.push_back(p.signature.kind);
    return out;
  }

  // The disk as it was, or as a step leaves it before one that makes a GPT.
  [[nodiscard]] bool is_before_gpt(const Layout& layout) const {
    if (layout == assessment_.before) return true;
    const std::vector<Step>& steps = assessment_.steps;
    for (std::size_t i = 1; i < steps.size(); ++i) {
      if (steps[i - 1].target() == layout && steps[i].target().kind == TableKind::gpt) return true;
    }
    return false;
  }

  void must_be_old_or_new(Device& disk, bool first, bool reverting = false) {
    const Survey survey = survey_disk(disk, utc(), true);
    const TableReading& table = survey.table;
    for (const Finding& f : table.findings) {
      // A prepared GPT may stand whole behind the old MBR: nobody reads it before the switch. And a
      // table that is being mended has its damage until then.
      const bool prepared =
          is_before_gpt(table.layout) &&
          (f.code == Rule::mbr_gpt_remains || f.code == Rule::gpt_primary_damaged ||
           find_code(findings_, f.code) != nullptr);
      // On the way back a GPT is whole again for a moment before LBA 0 is: the case says so.
      const bool both = reverting && f.code == Rule::mbr_gpt_remains;
      CHECK_MESSAGE((f.severity != Severity::error || prepared || both), f.text);
    }
    const Look now = look(survey);
    if (now == before_) {
      counts_.old_disk += first ? 1 : 0;
    } else if (now == after_) {
      counts_.new_disk += first ? 1 : 0;
    } else {
      bool step = false;
      for (const Step& s : assessment_.steps) step |= s.target() == table.layout;
      CHECK_MESSAGE(step, "neither the old disk, nor the new one, nor one in between two steps");
      counts_.chain += first ? 1 : 0;
    }
    CHECK(std::count(seals_.begin(), seals_.end(), take_manifest(disk, utc(), quiet_).seal()) > 0);
    for (const SurveyedPartition& p : survey.partitions) {
      for (const Finding& f : p.findings) {
        // What is to be mended is there until it is.
        const bool known = now == before_ && find_code(findings_, f.code) != nullptr;
        CHECK_MESSAGE((f.severity != Severity::error || known), f.text);
      }
    }
  }

  // Cuts the resume as well for every second one, then lets it finish.
  void resume(const MemoryDevice& cut, const fs::path& job, std::uint64_t seed) {
    const auto disk = cut.clone();
    const auto copy = folder_ / "resumed";
    fs::copy(job, copy, fs::copy_options::recursive);
    if (seed % 2 == 0) {
      FaultPlan plan;
      plan.cut_before = 1 + seed % (sectors() + 1);
      plan.seed = seed;
      FaultDevice device(*disk, plan);
      try {
        (void)resume_case(device, load_case(copy), quiet_);
      } catch (const Error& e) {
        CHECK(e.code() == ErrorCode::cut_off);
        ++counts_.twice;
        must_be_old_or_new(*disk, false);
      }
    }
    const CaseFile file = load_case(copy);
    const JobResult result = resume_case(*disk, file, quiet_);
    CHECK(result.sound());
    CHECK(result.comparison.seal_after == seals_.back());
    CHECK(disk->same_as(recorded_->result()));
    ++counts_.resumed;
    fs::remove_all(copy);
  }

  void revert(const MemoryDevice& cut, const fs::path& job, std::uint64_t seed) {
    const auto disk = cut.clone();
    if (seed % 2 == 1) {
      FaultPlan plan;
      plan.cut_before = 1 + seed % (sectors() + 1);
      plan.seed = seed;
      FaultDevice device(*disk, plan);
      try {
        (void)revert_case(device, load_case(job), {.compare = false}, quiet_);
      } catch (const Error&) {
        ++counts_.twice;
        must_be_old_or_new(*disk, false, true);
      }
    }
    const bool compare = seed % 4 == 0;
    const RevertResult back = revert_case(*disk, load_case(job), {.compare = compare}, quiet_);
    CHECK((back.compared.has_value() && back.equal()) == compare);
    CHECK(disk->same_as(*original_));
    ++counts_.reverted;
  }

  Counts& counts_;
  support::Folder folder_{support::Folder::Where::memory};
  QuietProgress quiet_;
  std::unique_ptr<MemoryDevice> original_;
  std::unique_ptr<support::RecordedJob> recorded_;
  Assessment assessment_;
  Look before_, after_;
  Findings findings_;  // of the disk as it was
  std::vector<std::string> seals_;
  // By the case that was there.
  std::vector<std::pair<std::uint64_t, std::unique_ptr<MemoryDevice>>> tried_;
};

}  // namespace

namespace {

// Every sector; of a rewrite with hundreds every one near the switch and after it, and of the rest
// a seeded choice: until the switch nobody sees what is prepared.
std::vector<std::uint64_t> cut_points(std::uint64_t sectors) {
  std::vector<std::uint64_t> out;
  const std::uint64_t all = support::is_long() ? ~std::uint64_t{0} : 200;
  const std::uint64_t end = support::is_long() ? 40 : 30;
  Random random(support::seed(7));
  for (std::uint64_t sector = 1; sector <= sectors; ++sector) {
    if (sectors <= all || sector + end > sectors || random.below(sectors) < end)
      out.push_back(sector);
  }
  return out;
}

// Every `parts`th scenario, so that several cores have something to do.
void cut_everywhere(std::size_t part, std::size_t parts) {
  std::uint64_t total = 0;
  std::size_t rewrites = 0;
  for (std::size_t i = part; i < scenarios::all().size(); i += parts) {
    const scenarios::Scenario& scenario = scenarios::all()[i];
    CAPTURE(scenario.name);
    Counts counts;
    Trial trial(scenario, {}, counts);
    for (const std::uint64_t sector : cut_points(trial.sectors())) {
      // Of a rewrite with many sectors nothing, everything or some subset in turn; near its end,
      // where the switch is, always a subset, too.
      const bool many = trial.sectors() > 40 && !support::is_long();
      if (!many || sector % 4 == 0) trial.cut_at(sector, FaultPlan::Keep::none, sector);
      if (!many || sector % 4 == 2) trial.cut_at(sector, FaultPlan::Keep::all, sector + 1);
      const bool some = !many || sector % 2 == 1 || sector + 20 > trial.sectors();
      const std::uint64_t subsets = many ? some ? 1 : 0 : 5;  // of each epoch, by cut
      for (std::uint64_t round = 0; round < subsets; ++round) {
        trial.cut_at(sector, FaultPlan::Keep::some, sector * 31 + round * 7);
      }
    }
    MESSAGE(scenario.name << ": " << trial.sectors() << " sectors written, " << counts.cuts
                          << " cuts, " << counts.run << " of a running job (" << counts.same
                          << " left nothing new): " << counts.old_disk << " old, "
                          << counts.new_disk << " new, " << counts.chain << " between steps; "
                          << counts.twice << " cut again; " << counts.resumed << " resumed, "
                          << counts.reverted << " put back to the byte");
    CHECK(counts.old_disk + counts.new_disk + counts.chain == counts.cuts);
    total += counts.cuts;
    ++rewrites;
    CHECK(counts.reverted == counts.cuts);
    CHECK(counts.resumed == counts.cuts);
  }
  MESSAGE("in all " << total << " cuts over " << rewrites << " rewrites");
}

// A disk that is spoken to in sectors and writes eight of them at a time.
void cut_long_sectors(std::size_t part, std::size_t parts) {
  std::uint64_t total = 0, mangled = 0, unreadable = 0;
  for (std::size_t i = part; i < scenarios::all().size(); i += parts) {
    const scenarios::Scenario& scenario = scenarios::all()[i];
    CAPTURE(scenario.name);
    const bool long_ones = scenario.sector_size == 4096;
    Counts counts;
    // The first whole one may begin anywhere.
    Trial trial(scenario, {long_ones ? 1u : 8u, long_ones || i % 2 == 0 ? 0u : 4u}, counts);
    Random random(i);
    for (const std::uint64_t sector : cut_points(trial.sectors())) {
      if (trial.sectors() > 60 && sector + 12 < trial.sectors() &&
          random.below(trial.sectors()) > 12 && !support::is_long())
        continue;
      if (!long_ones) trial.cut_at(sector, FaultPlan::Keep::some, sector * 31);
      const std::uint64_t cuts = counts.cuts;
      // Of some sectors, one or the other.
      const bool both = trial.sectors() <= 60 || support::is_long();
      if (both || sector % 2 == 0) trial.mangle_at(sector, FaultPlan::AtCut::torn, sector * 13);
      if (both || sector % 2 == 1) trial.mangle_at(sector, FaultPlan::AtCut::garbled, sector);
      mangled += counts.cuts - cuts;
    }
    CHECK(counts.resumed == counts.cuts);
    CHECK(counts.reverted == counts.cuts);
    total += counts.cuts;
    unreadable += counts.unreadable;
  }
  MESSAGE("long physical sectors: " << total << " cuts, at " << mangled
                                    << " of them one torn or garbled, " << unreadable
                                    << " times then not to be read");
  CHECK(unreadable > 0);
}

}  // namespace

TEST_CASE("power cut: long physical sectors, torn and garbled, 1 of 2") {
  cut_long_sectors(0, 2);
}
TEST_CASE("power cut: long physical sectors, torn and garbled, 2 of 2") {
  cut_long_sectors(1, 2);
}

TEST_CASE("power cut 1 of 4: at every sector of a rewrite the disk is the old or the new one") {
  cut_everywhere(0, 4);
}
TEST_CASE("power cut 2 of 4: at every sector of a rewrite the disk is the old or the new one") {
  cut_everywhere(1, 4);
}
TEST_CASE("power cut 3 of 4: at every sector of a rewrite the disk is the old or the new one") {
  cut_everywhere(2, 4);
}
TEST_CASE("power cut 4 of 4: at every sector of a rewrite the disk is the old or the new one") {
  cut_everywhere(3, 4);
}
