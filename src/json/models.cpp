#include "json/models.h"

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/partition_type.h>
#include <nuvrat/text.h>

#include "json/pieces.h"
#include "json/whole_numbers.h"

namespace nuvrat::json {

// What can't be shown as it is, unit by unit.
void put_text(Json& out, const std::string& key, const std::string& text) {
  out[key] = printable(text);
  if (printable(text) != text) out[key + "_utf16"] = utf16_digits(to_utf16(text));
}

std::string get_text(const Json& j, const std::string& key) {
  const std::string exact = key + "_utf16";
  return j.contains(exact) ? to_utf8(from_utf16_digits(j.at(exact).get<std::string>()))
                           : j.at(key).get<std::string>();
}

std::string dump(const Json& j) {
  return j.dump(2) + "\n";
}

Json to_json(const Obstacle& o) {
  Json goals = Json::array();
  for (const Goal& goal : o.goals) goals.push_back(goal.text());
  return {{"code", name_of(o)},       {"goals", goals},
          {"text", o.text},           {"remedy", o.remedy},
          {"otherwise", o.otherwise}, {"missing_sectors", o.missing_sectors},
          {"partition", o.partition}};
}

Json to_json(const Contents& c) {
  return {{"partition", static_cast<std::uint32_t>(c.partition)},
          {"kind", c.kind},
          {"label", printable(c.label)},
          {"kind_after", c.kind_after},
          {"fate", name_of(c.fate)}};
}
Json to_json(const ExpectedChange& c) {
  Json out = {{"kind", name_of(c.kind)},  {"partition", static_cast<std::uint32_t>(c.partition)},
              {"size", c.size},           {"created", c.created},
              {"modified", c.modified},   {"accessed", c.accessed},
              {"text", printable(c.text)}};
  put_text(out, "path", c.path);
  return out;
}
Json to_json(const Renumbering& r) {
  return {{"before", r.before}, {"after", r.after}};
}

namespace {

template <typename Items>
Json list(const Items& items) {
  Json out = Json::array();
  for (const auto& item : items) out.push_back(to_json(item));
  return out;
}

PartitionId id_from(const Json& j) {
  return PartitionId{whole_32_bits(j)};
}

Partition partition_from(const Json& j) {
  Partition p;
  p.id = id_from(j.at("id"));
  p.number = whole_32_bits(j.at("number"));
  p.role = enum_from(j.at("role").get<std::string>(),
                     {Role::primary, Role::extended, Role::logical, Role::gpt});
  p.start = j.at("start");
  p.sectors = j.at("sectors");
  const auto type = j.at("type").get<std::string>();
  if (type.size() == 2) {
    p.type = static_cast<std::uint8_t>(std::stoul(type, nullptr, 16));
  } else {
    p.type = Guid(type);
  }
  p.name = get_text(j, "name");
  p.active = j.at("active");
  if (j.contains("unique_id")) p.unique_id = Guid(j.at("unique_id").get<std::string>());
  if (j.contains("attributes")) p.attributes = j.at("attributes");
  if (j.contains("table_sector")) p.table_sector = j.at("table_sector");
  return p;
}

}  // namespace

Json to_json(const DeviceIdentity& d) {
  return {{"path", printable(d.path)},
          {"kind", name_of(d.kind)},
          {"model", printable(d.model)},
          {"serial", printable(d.serial)},
          {"read_only", d.read_only},
          {"in_use", printable(d.in_use)},
          {"physical_sector_size", d.physical_sector_size}};
}

Json to_json(const Partition& p) {
  Json out = {{"number", p.number},   {"role", name_of(p.role)},   {"start", p.start},
              {"sectors", p.sectors}, {"type", type_text(p.type)}, {"type_name", describe(p.type)},
              {"active", p.active}};
  put_text(out, "name", p.name);
  if (p.role == Role::gpt) {
    out["unique_id"] = p.unique_id.text();
    out["attributes"] = p.attributes;
  }
  if (p.table_sector) out["table_sector"] = *p.table_sector;
  return out;
}

Json to_json(const Layout& l) {
  Json partitions = Json::array();
  for (const Partition& p : l.partitions) {
    partitions.push_back(to_json(p));
    partitions.back()["id"] = static_cast<std::uint32_t>(p.id);
  }
  Json out = {{"kind", name_of(l.kind)},
              {"id", l.id_text()},
              {"sector_size", l.sector_size},
              {"disk_sectors", l.disk_sectors},
              {"partitions", partitions}};
  if (l.kind == TableKind::gpt) {
    out["first_usable"] = l.first_usable;
    out["last_usable"] = l.last_usable;
  }
  return out;
}

Json to_json(const Place& p) {
  Json out = Json::object();
  if (!p.subject.empty()) out["subject"] = printable(p.subject);
  if (p.sector) out["sector"] = *p.sector;
  if (p.record) out["record"] = *p.record;
  if (!p.path.empty()) out["path"] = printable(p.path);
  return out;
}

Json to_json(const Finding& f) {
  return {{"code", name_of(f.code)},
          {"severity", name_of(f.severity)},
          {"where", to_json(f.place)},
          {"text", printable(f.text)},
          {"repairable", f.repairable}};
}

Json to_json(const SectorRange& r) {
  return {{"first", r.first}, {"count", r.count}};
}

Json to_json(const Assessment& a, Blobs* blobs) {
  Json steps = Json::array();
  for (const Step& step : a.steps) steps.push_back(to_json(step, blobs));
  Json goals = Json::array();
  for (const Goal& goal : a.goals) goals.push_back(goal.text());
  Json consents = Json::array();
  for (const Consent& c : a.consents)
    consents.push_back({{"code", name_of(c.code)},
                        {"rank", name_of(row_of(c.code).rank)},
                        {"partition", static_cast<std::uint32_t>(c.partition)},
                        {"subject", a.subject_of(c)},
                        {"text", c.text},
                        {"detail", c.detail}});
  Json boot = nullptr;
  if (a.boot)
    boot = {{"way", name_of(a.boot->way)},
            {"boot_files", a.boot->boot_files},
            {"system", a.boot->system},
            {"machine", name_of(a.boot->machine)},
            {"spare", a.boot->spare}};
  return {{"goals", goals},
          {"boot", boot},
          {"tag", a.tag},
          {"device", to_json(a.device)},
          {"in_reach", a.in_reach()},
          {"obstacles", list(a.obstacles)},
          {"consents", consents},
          {"contents", list(a.contents)},
          {"findings", list(a.findings)},
          {"numbers", list(a.numbers())},
          {"before", to_json(a.before)},
          {"after", to_json(a.after)},
          {"steps", steps},
          {"changes", list(a.changes)},
          {"content_bytes", a.files_bytes},
          {"sectors_to_write", a.sectors_to_write},
          {"expected_seconds", a.expected_seconds},
          {"seconds_by_places", a.seconds_by_places}};
}

Layout layout_from_json(const Json& j) {
  return guarded([&j] {
    Layout l;
    l.kind = enum_from(j.at("kind").get<std::string>(),
                       {TableKind::none, TableKind::mbr, TableKind::gpt});
    l.sector_size = whole_32_bits(j.at("sector_size"));
    l.disk_sectors = j.at("disk_sectors");
    const auto id = j.at("id").get<std::string>();
    if (l.kind == TableKind::mbr)
      l.disk_signature = static_cast<std::uint32_t>(std::stoul(id, nullptr, 16));
    if (l.kind == TableKind::gpt) {
      l.disk_guid = Guid(id);
      l.first_usable = j.at("first_usable");
      l.last_usable = j.at("last_usable");
    }
    for (const Json& p : j.at("partitions")) l.partitions.push_back(partition_from(p));
    return l;
  });
}

Findings findings_from_json(const Json& j) {
  return guarded([&j] {
    Findings out;
    for (const Json& f : j) {
      Finding finding;
      const std::string code = f.at("code");
      finding.code = known(rule_named(code), code);
      finding.severity = enum_from(f.at("severity").get<std::string>(),
                                   {Severity::note, Severity::warning, Severity::error});
      const Json& where = f.at("where");
      finding.place.subject = where.value("subject", "");
      if (where.contains("sector")) finding.place.sector = where.at("sector");
      if (where.contains("record")) finding.place.record = where.at("record");
      finding.place.path = where.value("path", "");
      finding.text = f.at("text");
      finding.repairable = f.at("repairable");
      out.push_back(std::move(finding));
    }
    return out;
  });
}

namespace {

std::vector<Goal> goals_from_json(const Json& j) {
  std::vector<Goal> out;
  for (const Json& goal : j) out.push_back(parse_goal(goal.get<std::string>()));
  return out;
}

Obstacle obstacle_from_json(const Json& j) {
  const std::string code = j.at("code");
  Obstacle out;
  out.finding = rule_named(code);
  out.code = out.finding ? ObstacleCode::damaged : known(obstacle_named(code), code);
  out.text = j.at("text");
  out.remedy = j.at("remedy");
  out.otherwise = j.at("otherwise");
  out.missing_sectors = j.at("missing_sectors");
  out.partition = whole_32_bits(j.at("partition"));
  out.goals = goals_from_json(j.at("goals"));
  return out;
}

DeviceIdentity identity_from_json(const Json& j) {
  return {j.at("path"),
          enum_from(j.at("kind").get<std::string>(), {DeviceKind::image, DeviceKind::block_device,
                                                      DeviceKind::network, DeviceKind::memory}),
          j.at("model"),
          j.at("serial"),
          j.at("read_only"),
          j.at("in_use"),
          whole_32_bits(j.at("physical_sector_size"))};
}

ExpectedChange change_from_json(const Json& j) {
  using Kind = ExpectedChange::Kind;
  ExpectedChange out;
  out.kind = enum_from(j.at("kind").get<std::string>(),
                       {Kind::resized, Kind::added, Kind::gone, Kind::retimed, Kind::renamed,
                        Kind::relabelled, Kind::begins, Kind::written, Kind::folder, Kind::opened});
  out.partition = id_from(j.at("partition"));
  out.path = get_text(j, "path");
  out.size = j.at("size");
  out.created = j.at("created");
  out.modified = j.at("modified");
  out.accessed = j.at("accessed");
  out.text = j.at("text");
  return out;
}

BootChange boot_from_json(const Json& j) {
  BootChange out;
  out.way = enum_from(j.at("way").get<std::string>(), {BootWay::legacy, BootWay::uefi});
  out.boot_files = whole_32_bits(j.at("boot_files"));
  out.system = whole_32_bits(j.at("system"));
  out.machine = enum_from(j.at("machine").get<std::string>(),
                          {Machine::unknown, Machine::x86, Machine::x86_64, Machine::arm64});
  out.spare = whole_32_bits(j.at("spare"));
  return out;
}

}  // namespace

Assessment assessment_from_json(const Json& j, ByteView blobs) {
  return guarded([&] {
    require_whole_numbers(j, {"expected_seconds", "seconds_by_places"});
    Assessment a;
    a.goals = goals_from_json(j.at("goals"));
    a.tag = j.at("tag");
    a.device = identity_from_json(j.at("device"));
    a.before = layout_from_json(j.at("before"));
    a.after = layout_from_json(j.at("after"));
    for (const Json& o : j.at("obstacles")) a.obstacles.push_back(obstacle_from_json(o));
    for (const Json& c : j.at("consents")) {
      const std::string code = c.at("code");
      const Consent consent{.code = known(consent_named(code), code),
                            .partition = id_from(c.at("partition")),
                            .text = c.at("text"),
                            .detail = c.at("detail")};
      if (c.at("rank") != name_of(row_of(consent.code).rank) ||
          c.at("subject") != a.subject_of(consent))
        throw Error(ErrorCode::file, fmt::format("a consent to '{}' isn't what it says", code));
      a.consents.push_back(consent);
    }
    for (const Json& c : j.at("contents")) {
      using Fate = Contents::Fate;
      a.contents.push_back({.partition = id_from(c.at("partition")),
                            .kind = c.at("kind"),
                            .label = c.at("label"),
                            .kind_after = c.at("kind_after"),
                            .fate = enum_from(c.at("fate").get<std::string>(),
                                              {Fate::stays, Fate::added, Fate::gone})});
    }
    a.findings = findings_from_json(j.at("findings"));
    for (const Json& s : j.at("steps")) a.steps.push_back(step_from_json(s, blobs));
    for (const Json& c : j.at("changes")) a.changes.push_back(change_from_json(c));
    if (const Json& s = j.at("boot"); !s.is_null()) a.boot = boot_from_json(s);
    a.files_bytes = j.at("content_bytes");
    a.sectors_to_write = j.at("sectors_to_write");
    a.expected_seconds = j.at("expected_seconds");
    a.seconds_by_places = j.at("seconds_by_places");
    return a;
  });
}

}  // namespace nuvrat::json
