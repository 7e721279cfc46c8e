// The manifest as a file: docs/formats/manifest.md.

#include "json/manifest_file.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <unordered_map>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/manifest.h>

#include "base/whole_file.h"
#include "json/library.h"
#include "json/whole_numbers.h"

namespace nuvrat {
using namespace json;
namespace {

constexpr const char* schema = "nuvrat.manifest/1";

Json ranges_json(const std::vector<ByteRange>& ranges) {
  Json out = Json::array();
  for (const ByteRange& r : ranges) out.push_back({r.offset, r.length});
  return out;
}

std::vector<ByteRange> ranges_from(const Json& line) {
  std::vector<ByteRange> out;
  if (!line.contains("unreadable")) return out;
  for (const Json& r : line.at("unreadable")) out.push_back({r.at(0), r.at(1)});
  return out;
}

// As a JSON string, in quotes.
void put_string(std::string& out, std::string_view utf8) {
  out += '"';
  for (const char c : utf8) {
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (static_cast<unsigned char>(c) < 0x20) {
      out += fmt::format("\\u{:04x}", c);
    } else {
      out += c;
    }
  }
  out += '"';
}

std::u16string get_path(const Json& line) {
  if (!line.contains("path_utf16")) return to_utf16(line.at("path").get<std::string>());
  return from_utf16_digits(line.at("path_utf16").get<std::string>());
}

Json volume_line(const ManifestVolume& v) {
  Json line = {
      {"volume", v.number},
      {"start", v.start},
      {"sectors", v.sectors},
      {"kind", name_of(v.info.kind)},
      {"label", printable(v.info.label)},
      {"serial", v.info.serial},
      {"precision",
       {v.tree.precision().created, v.tree.precision().modified, v.tree.precision().accessed}}};
  if (printable(v.info.label) != v.info.label)
    line["label_utf16"] = utf16_digits(to_utf16(v.info.label));
  return line;
}

// A line for each of a million files: written as text, which takes a tenth of the time. A path that
// isn't well-formed UTF-16 can't be a JSON string; its units go beside it.
void put_node(std::string& out, const ManifestVolume& v, FileTree::Id id,
              const std::u16string& path) {
  const FileTree::Info info = v.tree.info(id);
  out += '{';
  const auto time = [&out](const char* name, Ticks ticks) {
    if (ticks == 0) return;
    out += '"';
    out += name;
    out += "\":\"";
    out += format_time(ticks);
    out += "\",";
  };
  time("accessed", info.accessed);
  out += "\"attributes\":" + std::to_string(info.attributes) + ",";
  time("created", info.created);
  if (info.directory) out += "\"directory\":true,";
  time("modified", info.modified);
  out += "\"path\":";
  const bool plain = is_well_formed(path);
  put_string(out, plain ? to_utf8(path) : printable(to_utf8(path)));
  if (!plain) out += ",\"path_utf16\":\"" + utf16_digits(path) + "\"";
  if (!info.directory) {
    out += v.is_placed(id) ? ",\"place\":\"" : ",\"sha256\":\"";
    out += v.digests[id].hex();
    out += "\",\"size\":" + std::to_string(info.size);
    if (const auto it = v.unreadable.find(id); it != v.unreadable.end())
      out += ",\"unreadable\":" + ranges_json(it->second).dump();
  }
  out += "}\n";
}

Json left_out_line(const LeftOut& l) {
  Json line = {{"left_out", printable(l.path)}, {"reason", printable(l.reason)}};
  if (l.record) line["record"] = *l.record;
  return line;
}

Json range_line(const ManifestRange& r) {
  Json line = {{"range", r.number},
               {"start", r.start},
               {"sectors", r.sectors},
               {"description", r.description},
               {"digest", r.digest.hex()}};
  if (r.placed) line["placed"] = true;
  if (r.holds_nothing) line["holds_nothing"] = true;
  if (!r.fault.empty()) line["fault"] = r.fault;
  if (!r.unreadable.empty()) line["unreadable"] = ranges_json(r.unreadable);
  return line;
}

class Loader {
 public:
  explicit Loader(Manifest& out) : out_(out) {}

  void line(const Json& line) {
    if (line.contains("schema")) {
      if (line.at("schema") != schema) {
        throw Error(ErrorCode::file, fmt::format("this is not a manifest of the form {}", schema));
      }
      out_.device = line.at("device");
      out_.zone = line.at("zone");
      out_.sector_size = line.at("sector_size");
      out_.chosen = line.value("chosen", false);
      const std::string proof = line.value("proof", name_of(Proof::contents));
      if (proof != name_of(Proof::contents) && proof != name_of(Proof::places))
        throw Error(ErrorCode::file, "this manifest is of a proof that isn't known");
      if (proof == name_of(Proof::places)) out_.proof = Proof::places;
      begun_ = true;
    } else if (!begun_) {
      throw Error(ErrorCode::file, "a manifest begins with its schema");
    } else if (line.contains("volume")) {
      volume(line);
    } else if (line.contains("range")) {
      out_.ranges.push_back({line.at("range"), line.at("start"), line.at("sectors"),
                             line.at("description"),
                             Digest::from_hex(line.at("digest").get<std::string>()),
                             ranges_from(line), line.value("holds_nothing", false),
                             line.value("fault", ""), line.value("placed", false)});
    } else if (line.contains("left_out") && !line.contains("seal")) {
      if (out_.volumes.empty()) throw Error(ErrorCode::file, "a place comes before any volume");
      LeftOut l{line.at("left_out"), {}, line.at("reason")};
      if (line.contains("record")) l.record = line.at("record").get<std::uint64_t>();
      out_.volumes.back().left_out.push_back(std::move(l));
    } else if (line.contains("seal")) {
      totals_ = line;
    } else {
      node(line);
    }
  }

  void finish() {
    if (totals_.is_null())
      throw Error(ErrorCode::file, "the manifest is cut off: its totals are missing");
    if (totals_.at("files") != out_.files() || totals_.at("left_out") != out_.left_out() ||
        totals_.at("bytes") != out_.bytes() || totals_.at("seal") != out_.seal()) {
      throw Error(
          ErrorCode::file,
          fmt::format("the manifest was changed or damaged: its seal is {}, its lines give {}",
                      totals_.at("seal").get<std::string>(), out_.seal()));
    }
  }

 private:
  void volume(const Json& line) {
    ManifestVolume v;
    v.number = line.at("volume");
    v.start = line.at("start");
    v.sectors = line.at("sectors");
    v.info.kind = kind_named(line.at("kind").get<std::string>());
    v.info.label = line.contains("label_utf16")
                       ? to_utf8(from_utf16_digits(line.at("label_utf16").get<std::string>()))
                       : line.at("label").get<std::string>();
    v.info.serial = line.at("serial");
    const Json& precision = line.at("precision");
    v.tree.set_precision({precision.at(0), precision.at(1), precision.at(2)});
    v.digests.emplace_back();
    out_.volumes.push_back(std::move(v));
    folders_.clear();
    folders_[u""] = FileTree::root;
  }

  void node(const Json& line) {
    if (out_.volumes.empty()) throw Error(ErrorCode::file, "a file comes before any volume");
    ManifestVolume& v = out_.volumes.back();
    const std::u16string path = get_path(line);
    const std::size_t slash = path.rfind(u'/');
    const std::u16string above = slash == std::u16string::npos ? u"" : path.substr(0, slash);
    const auto folder = folders_.find(above);
    if (folder == folders_.end()) {
      throw Error(ErrorCode::file, fmt::format("'{}' comes before its folder", to_utf8(path)));
    }
    FileTree::Info info;
    info.directory = line.value("directory", false);
    info.attributes = line.at("attributes");
    info.size = info.directory ? 0 : line.at("size").get<std::uint64_t>();
    info.created = parse_time(line.value("created", ""));
    info.modified = parse_time(line.value("modified", ""));
    info.accessed = parse_time(line.value("accessed", ""));
    const std::size_t name_at = slash == std::u16string::npos ? 0 : slash + 1;
    const FileTree::Id id = v.tree.add(folder->second, path.substr(name_at), u"", info);
    const bool placed = line.contains("place");
    if (placed) {
      if (out_.proof != Proof::places)
        throw Error(ErrorCode::file, "a place in a manifest of contents");
      v.placed.resize(id + 1u);
      v.placed[id] = true;
    }
    v.digests.push_back(
        info.directory ? Digest{}
                       : Digest::from_hex(line.at(placed ? "place" : "sha256").get<std::string>()));
    if (info.directory) folders_[path] = id;
    if (auto damage = ranges_from(line); !damage.empty()) v.unreadable[id] = std::move(damage);
  }

  Manifest& out_;
  std::unordered_map<std::u16string, FileTree::Id> folders_;
  Json totals_;
  bool begun_ = false;
};

std::string write_manifest(const Manifest& manifest, std::ostream& out) {
  Json head = {{"schema", schema},
               {"device", manifest.device},
               {"zone", manifest.zone},
               {"sector_size", manifest.sector_size}};
  if (manifest.chosen) head["chosen"] = true;
  if (manifest.proof == Proof::places) head["proof"] = name_of(Proof::places);
  out << head << '\n';
  for (const ManifestVolume& v : manifest.volumes) {
    out << volume_line(v) << '\n';
    std::string line;
    WalkedPath paths(v.tree);
    v.tree.walk([&](FileTree::Id id) {
      line.clear();
      put_node(line, v, id, paths(id));
      out.write(line.data(), static_cast<std::streamsize>(line.size()));
    });
    for (const LeftOut& l : v.left_out) out << left_out_line(l) << '\n';
  }
  for (const ManifestRange& r : manifest.ranges) out << range_line(r) << '\n';
  std::string seal = manifest.seal();
  out << Json{{"files", manifest.files()},
              {"directories", manifest.directories()},
              {"bytes", manifest.bytes()},
              {"left_out", manifest.left_out()},
              {"seal", seal}}
      << '\n';
  return seal;
}

std::string save_as(const Manifest& manifest, const std::filesystem::path& path, unsigned mode) {
  base::WholeFile file(path, mode);
  std::string seal = write_manifest(manifest, file.out());
  file.finish();
  return seal;
}

}  // namespace

std::string save_manifest(const Manifest& manifest, const std::string& path) {
  return save_as(manifest, path, base::mode_for_others);
}

std::string json::save_private_manifest(const Manifest& manifest,
                                        const std::filesystem::path& path) {
  return save_as(manifest, path, 0600);
}

Manifest load_manifest(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  if (!in) {
    const bool there = std::filesystem::exists(path);
    throw Error(there ? ErrorCode::file : ErrorCode::words, "the manifest can't be read",
                {.path = path}, "Name a file written by 'nuvrat manifest'");
  }
  Manifest out;
  Loader loader(out);
  std::string text;
  std::uint64_t number = 0;
  try {
    while (std::getline(in, text)) {
      ++number;
      const Json line = Json::parse(text);
      require_whole_numbers(line);
      loader.line(line);
    }
    loader.finish();
  } catch (const Error& e) {
    throw Error(ErrorCode::file, e.message(), {.path = fmt::format("{}, line {}", path, number)},
                "Take a manifest that was saved whole");
  } catch (const std::exception&) {
    throw Error(ErrorCode::file, "this line is not part of a manifest",
                {.path = fmt::format("{}, line {}", path, number)},
                "Name a file written by 'nuvrat manifest'");
  }
  return out;
}

std::vector<std::string> save_sha256sum(const Manifest& manifest, const std::string& path,
                                        bool with_partition) {
  if (manifest.placed() > 0)
    throw Error(ErrorCode::words, "a manifest by places has no hashes of contents", {},
                "Record the contents");
  base::WholeFile file(path, base::mode_for_others);
  std::ostream& out = file.out();
  std::vector<std::string> left_out;
  for (const ManifestVolume& v : manifest.volumes) {
    v.tree.walk([&](FileTree::Id id) {
      if (v.tree.is_directory(id)) return;
      std::string name = v.tree.path(id);
      if (with_partition) name = fmt::format("p{}/{}", v.number, name);
      if (v.holes_by_length.contains(id)) {
        left_out.push_back(name);
        return;
      }
      std::string escaped;
      for (const char c : name) {
        escaped += c == '\\' ? "\\\\" : c == '\n' ? "\\n" : c == '\r' ? "\\r" : std::string(1, c);
      }
      out << (escaped == name ? "" : "\\") << v.digests[id].hex() << "  " << escaped << '\n';
    });
  }
  file.finish();
  return left_out;
}

}  // namespace nuvrat
