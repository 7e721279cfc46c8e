#include <algorithm>
#include <numeric>

#include <fmt/core.h>

#include <nuvrat/manifest.h>

#include "base/volume_traits.h"
#include "tree/recording.h"

namespace nuvrat {
using namespace tree;
namespace {

template <typename Range, typename Number>
std::uint64_t total(const Range& range, Number number) {
  return std::accumulate(range.begin(), range.end(), std::uint64_t{0},
                         [&](std::uint64_t sum, const auto& item) { return sum + number(item); });
}

// Letters and digits that can't be taken for one another.
constexpr std::string_view alphabet = "0123456789ABCDEFGHJKMNPQRSTVWXYZ";

}  // namespace

std::uint64_t Manifest::files() const {
  return total(volumes, [](const ManifestVolume& v) { return v.tree.file_count(); });
}
std::uint64_t Manifest::directories() const {
  return total(volumes, [](const ManifestVolume& v) { return v.tree.directory_count(); });
}
std::uint64_t Manifest::bytes() const {
  return total(volumes, [](const ManifestVolume& v) { return v.tree.total_bytes(); });
}
std::uint64_t Manifest::placed() const {
  return total(volumes,
               [](const ManifestVolume& v) {
                 return static_cast<std::uint64_t>(
                     std::count(v.placed.begin(), v.placed.end(), true));
               }) +
         total(ranges, [](const ManifestRange& r) { return r.placed ? 1u : 0u; });
}
std::uint64_t Manifest::unreadable_files() const {
  return total(volumes, [](const ManifestVolume& v) { return v.unreadable.size(); });
}

std::uint64_t Manifest::unreadable_ranges() const {
  return total(ranges, [](const ManifestRange& r) { return r.is_unreadable() ? 1u : 0u; });
}

std::uint64_t Manifest::left_out() const {
  return total(volumes, [](const ManifestVolume& v) { return v.left_out.size(); }) +
         total(ranges, [](const ManifestRange& r) { return r.fault.empty() ? 0u : 1u; });
}

std::vector<FileTree::Id> ManifestVolume::encrypted() const {
  constexpr std::uint32_t encrypted_file = 0x4000;
  std::vector<FileTree::Id> out;
  if (!base::traits_of(info.kind).encrypts_files) return out;
  for (FileTree::Id id = 1; id < tree.size(); ++id) {
    if (!tree.is_directory(id) && (tree.info(id).attributes & encrypted_file) != 0)
      out.push_back(id);
  }
  return out;
}

std::string Manifest::seal() const {
  std::vector<const ManifestVolume*> all;
  for (const ManifestVolume& volume : volumes) all.push_back(&volume);
  return seal_of(all);
}

std::string tree::seal_of(const std::vector<const ManifestVolume*>& volumes) {
  Sha256 sha;
  for (const ManifestVolume* each : volumes) {
    const ManifestVolume& volume = *each;
    sha.add("volume\n");
    WalkedPath paths(volume.tree);
    volume.tree.walk([&](FileTree::Id id) {
      std::string line = to_utf8(paths(id));
      line.push_back('\0');
      if (volume.tree.is_directory(id)) {
        line += "directory\n";
      } else {
        line += std::to_string(volume.tree.bytes(id));
        line += ' ';
        line += volume.digests[id].hex();
        if (const auto it = volume.unreadable.find(id); it != volume.unreadable.end()) {
          for (const ByteRange& r : it->second) line += fmt::format(" !{}+{}", r.offset, r.length);
        }
        line.push_back('\n');
      }
      sha.add(line);
    });
    if (!volume.left_out.empty()) sha.add(fmt::format("left out {}\n", volume.left_out.size()));
  }
  const Digest digest = sha.finish();
  std::string out;
  for (std::size_t i = 0; i < 25; ++i) {
    if (i > 0 && i % 5 == 0) out.push_back('-');
    const std::size_t bit = i * 5;
    const unsigned pair =
        static_cast<unsigned>(digest.bytes[bit / 8] << 8 | digest.bytes[bit / 8 + 1]);
    out.push_back(alphabet[pair >> (11 - bit % 8) & 31]);
  }
  return out;
}

const char* name_of(Proof proof) {
  return proof == Proof::places ? "places" : "contents";
}

const char* name_of(DifferenceKind kind) {
  switch (kind) {
    case DifferenceKind::missing:
      return "missing";
    case DifferenceKind::extra:
      return "extra";
    case DifferenceKind::kind:
      return "kind";
    case DifferenceKind::size:
      return "size";
    case DifferenceKind::content:
      return "content";
    case DifferenceKind::place:
      return "place";
    case DifferenceKind::times:
      return "times";
    case DifferenceKind::attributes:
      return "attributes";
    case DifferenceKind::range:
      return "range";
    case DifferenceKind::volume:
      return "volume";
    case DifferenceKind::label:
      return "label";
  }
  return "content";
}

}  // namespace nuvrat
