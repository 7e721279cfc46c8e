#include "json/views.h"

#include <nuvrat/report.h>
#include <nuvrat/text.h>

#include "json/models.h"
#include "json/pieces.h"

namespace nuvrat {
using namespace json;

Json json::differences_json(const std::vector<Difference>& differences) {
  Json out = Json::array();
  for (const Difference& d : differences) {
    out.push_back({{"kind", name_of(d.kind)},
                   {"partition", d.number},
                   {"path", printable(d.path)},
                   {"text", printable(d.text)}});
  }
  return out;
}

Json json::findings_json(const Findings& findings) {
  Json out = Json::array();
  for (const Finding& f : findings) out.push_back(to_json(f));
  return out;
}

namespace {

Json device_json(const Survey& s) {
  Json out = to_json(s.device);
  out["bytes"] = s.sectors * s.sector_size;
  out["sectors"] = s.sectors;
  out["sector_size"] = s.sector_size;
  return out;
}

Json partition_json(const SurveyedPartition& s) {
  Json out = to_json(s.partition);
  if (s.partition.number == 0) out["role"] = "volume";
  if (s.partition.role == Role::extended) {
    out["volume"] = nullptr;
    return out;
  }
  Json volume = {{"kind", name_of(s.signature.kind)}, {"description", s.signature.description}};
  volume["label"] = s.volume ? Json(printable(s.volume->label)) : Json(nullptr);
  if (s.volume) {
    volume["serial"] = s.volume->serial;
    volume["bytes"] = s.volume->bytes;
    volume["free_bytes"] = s.volume->free_bytes;
    volume["cluster_bytes"] = s.volume->cluster_bytes;
    volume["clean"] = s.volume->clean;
  }
  out["volume"] = volume;
  return out;
}

}  // namespace

namespace {

Json systems_json(const Systems& s) {
  Json systems = Json::array();
  for (const SystemVolume& v : s.systems) {
    Json letters = Json::array();
    for (const DriveLetter& l : v.letters)
      letters.push_back({{"letter", std::string(1, l.letter)},
                         {"partition", static_cast<std::uint32_t>(l.partition)}});
    systems.push_back({{"letters", letters},
                       {"partition", v.number},
                       {"machine", name_of(v.machine)},
                       {"legacy_loader", v.legacy_loader},
                       {"uefi_loader", v.uefi_loader}});
  }
  Json files = Json::array();
  for (const BootFiles& b : s.boot_files) {
    files.push_back({{"partition", b.number},
                     {"way", name_of(b.way)},
                     {"in_force", b.in_force},
                     {"store", b.store},
                     {"description", printable(b.description)},
                     {"system", b.system},
                     {"fault", printable(b.fault)},
                     {"missing", printable(b.missing)}});
  }
  const auto way = s.boots_by();
  return {{"boots_by", way ? Json(name_of(*way)) : Json(nullptr)},
          {"systems", systems},
          {"boot_files", files}};
}

}  // namespace

std::string survey_json(const Survey& s) {
  Json parts = Json::array();
  for (const SurveyedPartition& p : s.partitions) parts.push_back(partition_json(p));
  Json table = {{"kind", name_of(s.table.layout.kind)},
                {"id", s.table.layout.id_text()},
                {"settle_unfinished", s.table.settle_unfinished}};
  if (s.table.layout.kind == TableKind::gpt) {
    table["first_usable"] = s.table.layout.first_usable;
    table["last_usable"] = s.table.layout.last_usable;
  }
  Json gaps = Json::array();
  for (const SectorRange& r : gaps_of(s.table)) gaps.push_back(to_json(r));
  const Findings findings = s.all_findings();
  return dump({{"schema", "nuvrat.survey/1"},
               {"verdict", has_errors(findings) ? "errors"
                           : findings.empty()   ? "nothing-unusual"
                                                : "findings"},
               {"disk", printable(s.device.path)},
               {"tag", s.tag},
               {"device", device_json(s)},
               {"table", table},
               {"bare_volume", s.bare_volume},
               {"partitions", parts},
               {"gaps", gaps},
               {"systems", systems_json(s.systems)},
               {"findings", findings_json(findings)}});
}

std::string machine_json(const std::vector<MachineDisk>& disks) {
  Json list = Json::array();
  for (const MachineDisk& d : disks) {
    Json uses = Json::array();
    for (const std::string& use : d.uses) uses.push_back(printable(use));
    list.push_back({{"path", d.path},
                    {"bytes", d.bytes},
                    {"sector_size", d.sector_size},
                    {"physical_sector_size", d.physical_sector_size},
                    {"model", printable(d.model)},
                    {"serial", printable(d.serial)},
                    {"bus", d.bus},
                    {"image", printable(d.image)},
                    {"removable", d.removable},
                    {"read_only", d.read_only},
                    {"uses", uses},
                    {"table", d.table ? Json(name_of(*d.table)) : Json(nullptr)},
                    {"tag", d.tag},
                    {"fault", printable(d.fault)}});
  }
  return dump({{"schema", "nuvrat.machine/1"}, {"verdict", "listed"}, {"disks", list}});
}

namespace {

Json opened_with(const OpenedVolume& volume) {
  return volume.opened_with() ? Json(*volume.opened_with()) : Json(nullptr);
}

}  // namespace

std::string files_json(OpenedVolume& volume, const std::string& path,
                       const std::vector<FileEntry>& files) {
  const auto time = [](Ticks t) { return t == 0 ? Json(nullptr) : Json(format_time(t)); };
  Json list = Json::array();
  for (const FileEntry& e : files)
    list.push_back({{"path", printable(e.path)},
                    {"directory", e.directory},
                    {"stream", e.stream},
                    {"bytes", e.bytes},
                    {"attributes", e.attributes},
                    {"created", time(e.created)},
                    {"modified", time(e.modified)},
                    {"accessed", time(e.accessed)}});
  return dump({{"schema", "nuvrat.files/1"},
               {"verdict", volume.reader().left_out().empty() ? "listed" : "partial"},
               {"disk", printable(volume.reader().device().identity().path)},
               {"partition", volume.number()},
               {"opened_with", opened_with(volume)},
               {"findings", findings_json(volume.findings())},
               {"path", printable(path)},
               {"files", list}});
}

std::string fetch_json(OpenedVolume& volume, const FetchResult& r, const std::string& folder) {
  Json problems = Json::array();
  for (const FetchProblem& p : r.problems)
    problems.push_back(
        {{"path", printable(p.path)}, {"text", printable(p.text)}, {"exists", p.exists}});
  return dump({{"schema", "nuvrat.fetch/1"},
               {"verdict", r.problems.empty() ? "copied" : "partial"},
               {"disk", printable(volume.reader().device().identity().path)},
               {"partition", volume.number()},
               {"opened_with", opened_with(volume)},
               {"findings", findings_json(volume.findings())},
               {"folder", printable(folder)},
               {"files", r.files},
               {"partial_files", r.partial},
               {"folders", r.folders},
               {"bytes", r.bytes},
               {"checked", r.checked},
               {"problems", problems}});
}

std::string goals_json(const DeviceIdentity& device, const std::vector<Assessment>& goals) {
  Json list = Json::array();
  for (const Assessment& a : goals) list.push_back(to_json(a));
  return dump({{"schema", "nuvrat.goals/1"},
               {"verdict", "listed"},
               {"disk", printable(device.path)},
               {"goals", list}});
}

std::string check_json(const Survey& s) {
  const Findings findings = s.all_findings();
  return dump({{"schema", "nuvrat.check/1"},
               {"verdict", has_errors(findings)        ? "errors"
                           : !findings.empty()         ? "findings"
                           : s.not_looked_at().empty() ? "sound"
                                                       : "partial"},
               {"disk", printable(s.device.path)},
               {"not_looked_at", s.not_looked_at()},
               {"tag", s.tag},
               {"findings", findings_json(findings)}});
}

namespace {

Json left_out_json(const Manifest& m) {
  Json out = Json::array();
  for (const ManifestVolume& v : m.volumes) {
    for (const LeftOut& l : v.left_out)
      out.push_back(
          {{"partition", v.number}, {"path", printable(l.path)}, {"reason", printable(l.reason)}});
  }
  for (const ManifestRange& r : m.ranges) {
    if (!r.fault.empty())
      out.push_back({{"partition", r.number}, {"path", ""}, {"reason", printable(r.fault)}});
  }
  return out;
}

}  // namespace

std::string manifest_json(const Manifest& m) {
  std::uint64_t encrypted = 0;
  for (const ManifestVolume& v : m.volumes) encrypted += v.encrypted().size();
  return dump({{"schema", "nuvrat.manifest-taken/1"},
               {"verdict", !m.whole()               ? "partial"
                           : !m.disturbance.empty() ? "disturbed"
                                                    : "recorded"},
               {"disturbance", m.disturbance},
               {"disk", printable(m.device)},
               {"proof", name_of(m.proof)},
               {"zone", m.zone},
               {"files", m.files()},
               {"directories", m.directories()},
               {"bytes", m.bytes()},
               {"unreadable_files", m.unreadable_files()},
               {"unreadable_ranges", m.unreadable_ranges()},
               {"left_out", left_out_json(m)},
               {"encrypted_files", encrypted},
               {"ranges", m.ranges.size()},
               {"seal", m.seal()}});
}

std::string comparison_json(const Comparison& c, const Manifest& after) {
  Json counts = Json::object();
  for (const auto& [kind, count] : c.by_kind) counts[name_of(kind)] = count;
  return dump({{"schema", "nuvrat.verify/1"},
               {"verdict", !c.equal()                   ? "different"
                           : c.partial()                ? "partial"
                           : !after.disturbance.empty() ? "disturbed"
                                                        : "equal"},
               {"disturbance", after.disturbance},
               {"disk", printable(after.device)},
               {"proof", name_of(c.proof)},
               {"by_place", c.by_place},
               {"seal_before", c.seal_before},
               {"seal_after", c.seal_after},
               {"files", after.files()},
               {"bytes", after.bytes()},
               {"left_out", c.left_out},
               {"unreadable_files", c.unreadable},
               {"unreadable_ranges", c.unreadable_ranges},
               {"access_times_compared", c.accessed},
               {"recorded_files", c.recorded},
               {"same_files", c.same},
               {"difference_count", c.count},
               {"differences_by_kind", counts},
               {"differences", differences_json(c.differences)}});
}

std::string error_json(const Error& e, const std::string& disk, const std::string& folder) {
  return dump({{"schema", "nuvrat.error/1"},
               {"verdict", "error"},
               {"disk", printable(disk)},
               {"case", printable(folder)},
               {"code", name_of(e.code())},
               {"message", printable(e.message())},
               {"where", to_json(e.place())},
               {"remedy", printable(e.remedy())}});
}

}  // namespace nuvrat
