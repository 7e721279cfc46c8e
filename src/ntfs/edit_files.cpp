// Files that an edit puts on a volume: which records and indexes that changes.

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/ascii.h"
#include "base/record.h"
#include "ntfs/edit.h"
#include "ntfs/folder_index.h"
#include "ntfs/names.h"

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

}  // namespace

void Edit::put(tree::PutFile file, Ticks made) {
  files_.emplace_back(std::move(file), made);
}

bool Edit::is_put(std::uint64_t base, std::uint32_t type, std::u16string_view name) const {
  const auto it = puts_.find(base);
  if (it == puts_.end()) return false;
  if (!it->second.folder) return type == at_data && name.empty();
  return name == index_name && (type == at_index_allocation || type == at_bitmap);
}

const IndexItem* Edit::find_name(const Put& folder, std::u16string_view name) const {
  for (const IndexItem& item : folder.names) {
    if (std::is_eq(upcase_->compare(name_in(item), name))) return &item;
  }
  return nullptr;
}

Edit::Put& Edit::open_folder(std::uint64_t number) {
  const auto [it, fresh] = puts_.try_emplace(number);
  Put& out = it->second;
  if (!fresh) return out;
  out.folder = true;
  const auto attributes = volume_.attributes(number);
  const auto faults =
      each_indexed_name(volume_, number, attributes, [&out](std::uint64_t reference, ByteView key) {
        out.names.push_back(
            {reference, static_cast<std::uint16_t>(key.size()), {key.begin(), key.end()}});
      });
  if (!faults.empty()) throw Error(ErrorCode::damaged, faults.front(), {.record = number});
  out.security = security_of(attributes);
  return out;
}

// Its number; 0, with no_records_, where none is free.
std::uint64_t Edit::add_new(std::uint64_t parent, std::u16string_view name, bool folder,
                            std::uint32_t attributes, std::uint64_t size, Ticks made) {
  const auto reference = take_record(first_user_record, volume_.records());
  if (!reference) {
    no_records_ = EditTrouble{EditTrouble::Kind::new_records, 0, 0, put_bits_.size()};
    return 0;
  }
  put_bits_ = record_bits_;
  const std::uint64_t number = record_of(*reference);
  Put& above = puts_.at(parent);
  const std::uint64_t parent_reference =
      above.is_new
          ? file_reference(parent, above.head.sequence)
          : file_reference(parent, load<FileRecord>(sound_record(parent)).sequence.value());
  const FileStamp stamp{made, made, made, attributes | (folder ? file_name_directory : 0)};
  const std::uint8_t space = is_short_name(name) ? name_both : name_win32;
  const Bytes key = file_name(parent_reference, stamp,
                              div_up(size, cluster_bytes_) * cluster_bytes_, size, name, space);
  above.changed = true;
  above.names.push_back({*reference, static_cast<std::uint16_t>(key.size()), key});
  Put out;
  out.is_new = out.changed = true;
  out.folder = folder;
  out.security = above.security;
  out.head.number = number;
  out.head.sequence = sequence_of(*reference);
  out.head.links = 1;
  if (folder) out.head.flags |= record_directory;
  out.first = {resident(at_standard_information, standard_information(stamp, out.security)),
               resident(at_file_name, key)};
  puts_.emplace(number, std::move(out));
  return number;
}

void Edit::replace_contents(std::uint64_t number, std::uint64_t parent, std::size_t file) {
  const tree::PutFile& put = files_[file].first;
  if (puts_.count(number) != 0) throw not_possible(put.path, "it is named twice");
  const auto attributes = volume_.attributes(number);
  const AttributeView* data = find_attribute(attributes, at_data);
  if (data == nullptr) throw not_possible(put.path, "it has none");
  if (data->flags != 0 || find_attribute(attributes, at_reparse_point) != nullptr)
    throw not_possible(put.path, "it is packed, sparse, encrypted or a link");
  Put& out = puts_[number];
  out.file = file;
  if (data->bytes() == put.contents.size() && !data->resident) return;
  // Its size is beside its name, in its record and in the folder.
  out.sized_in = parent;
  Put& above = open_folder(parent);
  above.changed = true;
  for (IndexItem& item : above.names) {
    if (record_of(item.head) != number) continue;
    set_size(item.body, put.contents.size());
  }
}

void Edit::set_size(Bytes& key, std::uint64_t size) const {
  auto head = load<FileNameHead>(key);
  head.data_size = size;
  head.allocated_size = div_up(size, cluster_bytes_) * cluster_bytes_;
  store(head, key);
}

void Edit::find_files() {
  if (files_.empty()) return;
  const auto upper = volume_.attributes(record_upcase);
  const AttributeView* table = find_attribute(upper, at_data);
  if (table == nullptr) throw Error(ErrorCode::damaged, "$UpCase lacks its contents");
  upcase_.emplace(volume_.read_all(*table, upcase_bytes));
  for (std::size_t i = 0; i < files_.size(); ++i) {
    const tree::PutFile& file = files_[i].first;
    const Ticks made = file.modified == 0 ? files_[i].second : file.modified;
    std::uint64_t folder = record_root;
    const std::vector<std::string> parts = base::path_parts(file.path);
    if (parts.empty()) throw not_possible(file.path, "that is not a name for a file");
    for (std::size_t n = 0; n < parts.size() && !no_records_; ++n) {
      const std::u16string name = to_utf16(parts[n]);
      if (!win32_allows(name) || name.size() > 255)
        throw not_possible(file.path, "that is not a name for a file");
      const bool last = n + 1 == parts.size();
      const IndexItem* there = find_name(open_folder(folder), name);
      if (there == nullptr) {
        const std::uint64_t made_number = add_new(folder, name, !last, last ? file.attributes : 0,
                                                  last ? file.contents.size() : 0, made);
        if (last && made_number != 0) puts_.at(made_number).file = i;
        folder = made_number;
        continue;
      }
      if (is_folder_key(*there) == last)
        throw not_possible(file.path, last ? "a folder has its name" : "a file is in its path");
      const std::uint64_t number = record_of(there->head);
      if (last) replace_contents(number, folder, i);
      folder = number;
    }
  }
  // Folders that were only passed stay as they are.
  std::erase_if(puts_, [](const auto& one) { return one.second.folder && !one.second.changed; });
  for (auto& [number, put] : puts_) {
    std::stable_sort(put.names.begin(), put.names.end(),
                     [this](const IndexItem& a, const IndexItem& b) {
                       return std::is_lt(upcase_->compare(name_in(a), name_in(b)));
                     });
  }
}

// In its record where it fits, else in blocks.
void Edit::shape_folder(std::uint64_t number, Put& folder) {
  const Geometry& g = geometry();
  const IndexKind kind{at_file_name, collate_file_name, g.index_unit(), g.index_bytes};
  folder.runs.clear();
  folder.blocks.clear();
  folder.root = small_index_root(kind, folder.names);
  std::vector<Attribute> all = folder.first;
  if (folder.is_new) {
    put_contents(folder, all);
  } else {
    all = moved_attributes(number, sound_record(number));
  }
  if (packer_.fits(all)) return;
  std::vector<std::uint32_t> sizes;
  for (const IndexItem& item : folder.names)
    sizes.push_back(static_cast<std::uint32_t>(entry_bytes(item.body.size())));
  const IndexShape shape(sizes, g.index_bytes);
  for (std::size_t i = 0; i < shape.blocks(); ++i) {
    const Bytes block = index_block(shape, i, folder.names, g.index_unit());
    folder.blocks.insert(folder.blocks.end(), block.begin(), block.end());
  }
  folder.root = large_index_root(kind, shape.blocks());
  folder.runs = room_->take(div_up<std::uint64_t>(folder.blocks.size(), cluster_bytes_));
}

void Edit::place_files() {
  for (auto& [number, put] : puts_) {
    if (put.folder) {
      shape_folder(number, put);
    } else {
      put.runs = room_->take(
          div_up<std::uint64_t>(files_[put.file].first.contents.size(), cluster_bytes_));
    }
    for (const Run& r : put.runs) taken_.add({r.lcn, r.count});
    if (put.is_new) continue;
    for (const AttributeView& a : volume_.attributes(number)) {
      if (a.resident || !is_put(number, a.type, a.name)) continue;
      for (const Run& r : counted_anew(a.runs)) {
        if (r.lcn != Run::hole) given_.add({r.lcn, r.count});
      }
    }
  }
}

// In the place of the old contents, or where new ones go.
void Edit::put_contents(const Put& put, std::vector<Attribute>& attributes) const {
  const auto is_old = [&put](const Attribute& a) {
    if (!put.folder) return a.type == at_data && a.name.empty();
    return a.name == index_name &&
           (a.type == at_index_root || a.type == at_index_allocation || a.type == at_bitmap);
  };
  std::erase_if(attributes, is_old);
  for (Attribute& a : attributes) {
    const bool sized = put.sized_in && a.type == at_file_name &&
                       record_of(load<FileNameHead>(a.value).parent.value()) == *put.sized_in;
    if (sized) set_size(a.value, files_[put.file].first.contents.size());
  }
  std::vector<Attribute> now;
  if (put.folder) {
    now.push_back(resident(at_index_root, put.root, index_name));
    if (!put.blocks.empty()) {
      now.push_back(non_resident(at_index_allocation, put.runs, put.blocks.size(), cluster_bytes_,
                                 index_name));
      const std::size_t blocks = put.blocks.size() / geometry().index_bytes;
      Bytes bits(div_up<std::size_t>(blocks, 64) * 8);
      for (std::size_t i = 0; i < blocks; ++i)
        bits[i / 8] = static_cast<std::uint8_t>(bits[i / 8] | 1u << i % 8);
      now.push_back(resident(at_bitmap, std::move(bits), index_name));
    }
  } else {
    const Bytes& contents = files_[put.file].first.contents;
    now.push_back(contents.empty()
                      ? resident(at_data, {})
                      : non_resident(at_data, put.runs, contents.size(), cluster_bytes_));
  }
  for (Attribute& a : now) {
    const auto after = std::find_if(attributes.begin(), attributes.end(), [&a](const Attribute& b) {
      return b.type > a.type || (b.type == a.type && b.name > a.name);
    });
    attributes.insert(after, std::move(a));
  }
}

}  // namespace nuvrat::ntfs
