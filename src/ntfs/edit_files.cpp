// Files that an edit puts on a volume: which records and indexes that changes.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/ascii.h"
#include "base/record.h"
#include "ntfs/edit_layout.h"
#include "ntfs/folder_index.h"
#include "ntfs/names.h"
#include "ntfs/upcase.h"

namespace nuvrat::ntfs {
namespace {

constexpr std::uint64_t upcase_bytes = 131072;
constexpr const char16_t* index_name = u"$I30";

std::u16string name_in(const IndexItem& item) {
  return utf16_from(ByteView(item.body).subspan(sizeof(FileNameHead)));
}

bool is_folder_key(const IndexItem& item) {
  return (load<FileNameHead>(item.body).attributes.value() & file_name_directory) != 0;
}

// The number of its permissions in $Secure; of a volume from before there were such, 0.
std::uint32_t security_of(const std::vector<AttributeView>& attributes) {
  const AttributeView* standard = find_attribute(attributes, at_standard_information);
  if (standard == nullptr || standard->value.size() < sizeof(StandardInformation)) return 0;
  return load<StandardInformation>(standard->value).security_id.value();
}

Error not_possible(const std::string& path, const std::string& why) {
  return {ErrorCode::refused,
          fmt::format("'{}' can't get new contents: {}", printable(path), why),
          {.path = path}};
}

UpCase upcase_of(const Volume& volume) {
  const auto attributes = volume.attributes(record_upcase);
  const AttributeView* table = find_attribute(attributes, at_data);
  if (table == nullptr) throw Error(ErrorCode::damaged, "$UpCase lacks its contents");
  return UpCase(volume.read_all(*table, upcase_bytes));
}

class PutFinder {
 public:
  PutFinder(const EditVolume& volume, const SystemStreams& streams)
      : v_(volume), streams_(streams), upcase_(upcase_of(volume.volume)) {}

  PutRecords find() {
    for (std::size_t i = 0; i < v_.request.files.size(); ++i) find_file(i);
    // Folders that were only passed stay as they are.
    std::erase_if(out_.records,
                  [](const auto& one) { return one.second.folder && !one.second.changed; });
    for (auto& [number, put] : out_.records) {
      std::stable_sort(put.names.begin(), put.names.end(),
                       [this](const IndexItem& a, const IndexItem& b) {
                         return std::is_lt(upcase_.compare(name_in(a), name_in(b)));
                       });
    }
    return std::move(out_);
  }

 private:
  [[nodiscard]] const IndexItem* find_name(const Put& folder, std::u16string_view name) const {
    for (const IndexItem& item : folder.names) {
      if (std::is_eq(upcase_.compare(name_in(item), name))) return &item;
    }
    return nullptr;
  }

  Put& open_folder(std::uint64_t number) {
    const auto [it, fresh] = out_.records.try_emplace(number);
    Put& out = it->second;
    if (!fresh) return out;
    out.folder = true;
    const auto attributes = v_.volume.attributes(number);
    const auto faults = each_indexed_name(
        v_.volume, number, attributes, [&out](std::uint64_t reference, ByteView key) {
          out.names.push_back(
              {reference, static_cast<std::uint16_t>(key.size()), {key.begin(), key.end()}});
        });
    if (!faults.empty()) throw Error(ErrorCode::damaged, faults.front(), {.record = number});
    out.security = security_of(attributes);
    return out;
  }

  // What is not there yet: the last part of a path, or a folder on the way.
  struct NewName {
    std::u16string_view name;
    bool folder = false;
    std::uint32_t attributes = 0;
    std::uint64_t size = 0;
    Ticks made = 0;
  };

  // Its number; 0 where no record is free.
  std::uint64_t add_new(std::uint64_t parent, const NewName& wanted) {
    const auto reference =
        free_record(v_, streams_, out_.bits, {first_user_record, v_.volume.records()});
    if (!reference) {
      out_.too_few = true;
      return 0;
    }
    const std::uint64_t number = record_of(*reference);
    out_.bits[number] = true;
    Put& above = out_.records.at(parent);
    const std::uint64_t parent_reference =
        above.is_new
            ? file_reference(parent, above.head.sequence)
            : file_reference(parent, load<FileRecord>(v_.sound_record(parent)).sequence.value());
    const FileStamp stamp{wanted.made, wanted.made, wanted.made,
                          wanted.attributes | (wanted.folder ? file_name_directory : 0)};
    const std::uint8_t space = is_short_name(wanted.name) ? name_both : name_win32;
    const Bytes key =
        file_name(parent_reference, stamp,
                  {div_up(wanted.size, v_.cluster_bytes) * v_.cluster_bytes, wanted.size},
                  wanted.name, space);
    above.changed = true;
    above.names.push_back({*reference, static_cast<std::uint16_t>(key.size()), key});
    Put out;
    out.is_new = out.changed = true;
    out.folder = wanted.folder;
    out.security = above.security;
    out.head.number = number;
    out.head.sequence = sequence_of(*reference);
    out.head.links = 1;
    if (wanted.folder) out.head.flags |= record_directory;
    out.first = {resident(at_standard_information, standard_information(stamp, out.security)),
                 resident(at_file_name, key)};
    out_.records.emplace(number, std::move(out));
    return number;
  }

  void replace_contents(std::uint64_t number, std::uint64_t parent, std::size_t file) {
    const tree::PutFile& put = v_.request.files[file];
    if (out_.records.count(number) != 0) throw not_possible(put.path, "it is named twice");
    const auto attributes = v_.volume.attributes(number);
    const AttributeView* data = find_attribute(attributes, at_data);
    if (data == nullptr) throw not_possible(put.path, "it has none");
    if (data->flags != 0 || find_attribute(attributes, at_reparse_point) != nullptr)
      throw not_possible(put.path, "it is packed, sparse, encrypted or a link");
    Put& out = out_.records[number];
    out.file = file;
    if (data->bytes() == put.contents.size() && !data->resident) return;
    // Its size is beside its name, in its record and in the folder.
    out.sized_in = parent;
    Put& above = open_folder(parent);
    above.changed = true;
    for (IndexItem& item : above.names) {
      if (record_of(item.head) != number) continue;
      set_size(item.body, put.contents.size(), v_.cluster_bytes);
    }
  }

  void find_file(std::size_t i) {
    const tree::PutFile& file = v_.request.files[i];
    const Ticks made = file.modified == 0 ? v_.request.made : file.modified;
    std::uint64_t folder = record_root;
    const std::vector<std::string> parts = base::path_parts(file.path);
    if (parts.empty()) throw not_possible(file.path, "that is not a name for a file");
    for (std::size_t n = 0; n < parts.size() && !out_.too_few; ++n) {
      const std::u16string name = to_utf16(parts[n]);
      if (!win32_allows(name) || name.size() > 255)
        throw not_possible(file.path, "that is not a name for a file");
      const bool last = n + 1 == parts.size();
      const IndexItem* there = find_name(open_folder(folder), name);
      if (there == nullptr) {
        NewName wanted{.name = name, .folder = !last, .made = made};
        if (last) {
          wanted.attributes = file.attributes;
          wanted.size = file.contents.size();
        }
        const std::uint64_t number = add_new(folder, wanted);
        if (last && number != 0) out_.records.at(number).file = i;
        folder = number;
        continue;
      }
      if (is_folder_key(*there) == last)
        throw not_possible(file.path, last ? "a folder has its name" : "a file is in its path");
      const std::uint64_t number = record_of(there->head);
      if (last) replace_contents(number, folder, i);
      folder = number;
    }
  }

  const EditVolume& v_;
  const SystemStreams& streams_;
  UpCase upcase_;
  PutRecords out_;
};

}  // namespace

void set_size(Bytes& key, std::uint64_t size, std::uint64_t cluster_bytes) {
  auto head = load<FileNameHead>(key);
  head.data_size = size;
  head.allocated_size = div_up(size, cluster_bytes) * cluster_bytes;
  store(head, key);
}

bool is_put(const PutRecords& puts, std::uint64_t base, std::uint32_t type,
            std::u16string_view name) {
  const auto it = puts.records.find(base);
  if (it == puts.records.end()) return false;
  if (!it->second.folder) return type == at_data && name.empty();
  return name == index_name && (type == at_index_allocation || type == at_bitmap);
}

PutRecords find_put_records(const EditVolume& volume, const SystemStreams& streams) {
  if (volume.request.files.empty()) return {};
  return PutFinder(volume, streams).find();
}

// In its record where it fits, else in blocks.
void Layouter::shape_folder(std::uint64_t number, const Put& folder) {
  PutPlace& place = out_.puts[number];
  const Geometry& g = v_.geometry();
  const IndexKind kind{at_file_name, collate_file_name, g.index_unit(), g.index_bytes};
  place.root = small_index_root(kind, folder.names);
  std::vector<Attribute> all = folder.first;
  if (folder.is_new) {
    put_contents(folder, place, all);
  } else {
    all = moved_attributes(number, v_.sound_record(number));
  }
  if (v_.packer.fits(all)) return;
  std::vector<std::uint32_t> sizes;
  for (const IndexItem& item : folder.names)
    sizes.push_back(static_cast<std::uint32_t>(entry_bytes(item.body.size())));
  const IndexShape shape(sizes, g.index_bytes);
  for (std::size_t i = 0; i < shape.blocks(); ++i) {
    const Bytes block = index_block(shape, i, folder.names, g.index_unit());
    place.blocks.insert(place.blocks.end(), block.begin(), block.end());
  }
  place.root = large_index_root(kind, shape.blocks());
  place.runs = room_.take(div_up<std::uint64_t>(place.blocks.size(), v_.cluster_bytes));
}

void Layouter::place_files() {
  for (const auto& [number, put] : puts_.records) {
    if (put.folder) {
      shape_folder(number, put);
    } else {
      out_.puts[number].runs = room_.take(
          div_up<std::uint64_t>(v_.request.files[put.file].contents.size(), v_.cluster_bytes));
    }
    for (const Run& r : out_.puts.at(number).runs) out_.taken.add({r.lcn, r.count});
    if (put.is_new) continue;
    for (const AttributeView& a : v_.volume.attributes(number)) {
      if (a.resident || !is_put(puts_, number, a.type, a.name)) continue;
      for (const Run& r : v_.counted_anew(a.runs)) {
        if (r.lcn != Run::hole) out_.given.add({r.lcn, r.count});
      }
    }
  }
}

// In the place of the old contents, or where new ones go.
void Layouter::put_contents(const Put& put, const PutPlace& place,
                            std::vector<Attribute>& attributes) const {
  const auto is_old = [&put](const Attribute& a) {
    if (!put.folder) return a.type == at_data && a.name.empty();
    return a.name == index_name &&
           (a.type == at_index_root || a.type == at_index_allocation || a.type == at_bitmap);
  };
  std::erase_if(attributes, is_old);
  for (Attribute& a : attributes) {
    const bool sized = put.sized_in && a.type == at_file_name &&
                       record_of(load<FileNameHead>(a.value).parent.value()) == *put.sized_in;
    if (sized) set_size(a.value, v_.request.files[put.file].contents.size(), v_.cluster_bytes);
  }
  std::vector<Attribute> now;
  if (put.folder) {
    now.push_back(resident(at_index_root, place.root, index_name));
    if (!place.blocks.empty()) {
      now.push_back(non_resident(at_index_allocation, place.runs, place.blocks.size(),
                                 v_.cluster_bytes, index_name));
      const std::size_t blocks = place.blocks.size() / v_.geometry().index_bytes;
      Bytes bits(div_up<std::size_t>(blocks, 64) * 8);
      for (std::size_t i = 0; i < blocks; ++i)
        bits[i / 8] = static_cast<std::uint8_t>(bits[i / 8] | 1u << i % 8);
      now.push_back(resident(at_bitmap, std::move(bits), index_name));
    }
  } else {
    const Bytes& contents = v_.request.files[put.file].contents;
    now.push_back(contents.empty()
                      ? resident(at_data, {})
                      : non_resident(at_data, place.runs, contents.size(), v_.cluster_bytes));
  }
  for (Attribute& a : now) {
    const auto after = std::find_if(attributes.begin(), attributes.end(), [&a](const Attribute& b) {
      return b.type > a.type || (b.type == a.type && b.name > a.name);
    });
    attributes.insert(after, std::move(a));
  }
}

}  // namespace nuvrat::ntfs
