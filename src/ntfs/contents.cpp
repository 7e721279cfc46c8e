// What is in each record of a new volume: names, times, sizes, where the contents lie.

#include <algorithm>
#include <optional>

#include <nuvrat/text.h>

#include "base/record.h"
#include "ntfs/names.h"
#include "ntfs/plan.h"

namespace nuvrat::ntfs {
namespace {

using Entity = Plan::Entity;

constexpr std::uint32_t hidden_system = attr_hidden | attr_system;

struct SystemFile {
  std::uint32_t record;
  const char16_t* name;
  std::uint32_t parent;
  std::uint32_t attributes;
};

constexpr SystemFile system_files[] = {
    {record_mft, u"$MFT", record_root, hidden_system},
    {record_mirror, u"$MFTMirr", record_root, hidden_system},
    {record_log, u"$LogFile", record_root, hidden_system},
    {record_volume_info, u"$Volume", record_root, hidden_system},
    {record_attr_def, u"$AttrDef", record_root, hidden_system},
    {record_root, u".", record_root, hidden_system | file_name_directory},
    {record_bitmap, u"$Bitmap", record_root, hidden_system},
    {record_boot, u"$Boot", record_root, hidden_system},
    {record_bad, u"$BadClus", record_root, hidden_system},
    {record_secure, u"$Secure", record_root, hidden_system | file_name_view_index},
    {record_upcase, u"$UpCase", record_root, hidden_system},
    {record_extend_folder, u"$Extend", record_root, hidden_system | file_name_directory},
    {first_user_record, u"$Quota", record_extend_folder, hidden_system | file_name_view_index},
    {first_user_record + 1, u"$ObjId", record_extend_folder, hidden_system | file_name_view_index},
    {first_user_record + 2, u"$Reparse", record_extend_folder,
     hidden_system | file_name_view_index},
};

const SystemFile* system_file(std::uint32_t record) {
  for (const SystemFile& f : system_files) {
    if (f.record == record) return &f;
  }
  return nullptr;
}

std::optional<Stream> stream_of(std::uint32_t record) {
  switch (record) {
    case record_mft:
      return Stream::mft;
    case record_mirror:
      return Stream::mirror;
    case record_log:
      return Stream::log;
    case record_attr_def:
      return Stream::attr_def;
    case record_bitmap:
      return Stream::bitmap;
    case record_upcase:
      return Stream::upcase;
    default:
      return std::nullopt;
  }
}

FileStamp stamp_of(const Plan& plan, Entity e) {
  if (plan.is_system(e) || e == FileTree::root) {
    const auto record = e == FileTree::root ? std::uint32_t{record_root} : e - plan.system(0);
    const SystemFile* f = system_file(record);
    const Ticks made = plan.format().made;
    return {made, made, made, f == nullptr ? hidden_system : f->attributes};
  }
  const FileTree::Info info = plan.tree().info(e);
  FileStamp out{info.created, info.modified, info.accessed, info.attributes};
  if (out.created == 0) out.created = out.modified;
  if (out.accessed == 0) out.accessed = out.modified;
  if (info.directory) out.attributes |= file_name_directory;
  return out;
}

struct Sizes {
  std::uint64_t allocated = 0, size = 0;
};

Sizes sizes_of(const Plan& plan, Entity e) {
  if (!plan.is_system(e)) {
    if (plan.tree().is_directory(e)) return {};
    const std::uint64_t size = plan.tree().bytes(e);
    return {div_up(size, plan.cluster_bytes()) * plan.cluster_bytes(), size};
  }
  const std::uint32_t record = e - plan.system(0);
  if (record == record_boot) return {plan.boot_clusters() * plan.cluster_bytes(), 8192};
  const auto s = stream_of(record);
  if (!s) return {};
  return {clusters_in(plan.runs(*s)) * plan.cluster_bytes(), plan.size(*s)};
}

// A short name goes with a long one that Win32 allows.
bool has_short(const Plan& plan, Entity e) {
  if (plan.is_system(e) || e == FileTree::root) return false;
  const auto name = plan.tree().short_name(e);
  return !name.empty() && std::is_neq(plan.upcase().compare(name, plan.tree().name(e))) &&
         win32_allows(plan.tree().name(e));
}

std::u16string_view text_of(const Plan& plan, NameOf n) {
  if (n.entity == FileTree::root) return u".";
  if (plan.is_system(n.entity)) return system_file(n.entity - plan.system(0))->name;
  return n.short_one ? plan.tree().short_name(n.entity) : plan.tree().name(n.entity);
}

std::uint64_t parent_of(const Plan& plan, Entity e) {
  if (e == FileTree::root) return plan.reference_of(FileTree::root);
  if (!plan.is_system(e)) return plan.reference_of(plan.tree().parent(e));
  const std::uint32_t parent = system_file(e - plan.system(0))->parent;
  return parent == record_root ? plan.reference_of(FileTree::root)
                               : plan.reference_of(plan.system(parent));
}

std::uint8_t space_of(const Plan& plan, NameOf n) {
  if (n.short_one) return name_dos;
  if (plan.is_system(n.entity) || n.entity == FileTree::root) return name_both;
  const auto name = plan.tree().name(n.entity);
  if (!win32_allows(name)) return name_posix;
  // A short name that NTFS doesn't take for one ("A B"): Win32 names have another beside them.
  if (!plan.tree().short_name(n.entity).empty() && !has_short(plan, n.entity) &&
      !is_short_name(name))
    return name_posix;
  return has_short(plan, n.entity) || !is_short_name(name) ? name_win32 : name_both;
}

Bytes name_value(const Plan& plan, NameOf n) {
  const Sizes sizes = sizes_of(plan, n.entity);
  return file_name(parent_of(plan, n.entity), stamp_of(plan, n.entity),
                   {sizes.allocated, sizes.size}, text_of(plan, n), space_of(plan, n));
}

void add_names(const Plan& plan, Entity e, std::vector<Attribute>& out) {
  out.push_back(resident(at_file_name, name_value(plan, {e, false})));
  if (has_short(plan, e)) out.push_back(resident(at_file_name, name_value(plan, {e, true})));
}

void add_folder(const Plan& plan, Entity e, std::vector<Attribute>& out) {
  const IndexKind kind{at_file_name, collate_file_name, plan.index_unit()};
  const auto large = plan.folders().find(e);
  if (plan.is_system(e) || large == plan.folders().end()) {
    out.push_back(resident(at_index_root, small_index_root(kind, folder_items(plan, e)), u"$I30"));
    return;
  }
  const Plan::Folder& folder = large->second;
  out.push_back(resident(at_index_root, large_index_root(kind, folder.blocks), u"$I30"));
  out.push_back(non_resident(at_index_allocation, folder.runs, folder.blocks * index_block_bytes,
                             plan.cluster_bytes(), u"$I30"));
  Bytes bits(div_up<std::size_t>(folder.blocks, 64) * 8);
  for (std::size_t i = 0; i < folder.blocks; ++i)
    bits[i / 8] = static_cast<std::uint8_t>(bits[i / 8] | 1u << i % 8);
  out.push_back(resident(at_bitmap, std::move(bits), u"$I30"));
}

Attribute view_index(const Plan& plan, const char16_t* name, std::uint32_t collation,
                     const std::vector<IndexItem>& items) {
  return resident(at_index_root, small_index_root({0, collation, plan.index_unit()}, items), name);
}

void add_volume(const Plan& plan, std::vector<Attribute>& out) {
  Bytes name;
  for (const char16_t unit : plan.format().label) {
    name.push_back(static_cast<std::uint8_t>(unit));
    name.push_back(static_cast<std::uint8_t>(unit >> 8));
  }
  out.push_back(resident(at_volume_name, std::move(name)));
  out.push_back(resident(at_volume_information, {0, 0, 0, 0, 0, 0, 0, 0, 3, 1, 0, 0}));
  out.push_back(resident(at_data, {}));
}

void add_bad_clusters(const Plan& plan, std::vector<Attribute>& out) {
  out.push_back(resident(at_data, {}));
  Runs runs;
  std::uint64_t at = 0;
  for (const Run& bad : plan.bad_runs()) {
    if (bad.lcn > at) add_run(runs, {Run::hole, bad.lcn - at});
    runs.push_back(bad);
    at = bad.lcn + bad.count;
  }
  if (at < plan.clusters()) add_run(runs, {Run::hole, plan.clusters() - at});
  Attribute bad = non_resident(at_data, runs, plan.clusters() * plan.cluster_bytes(),
                               plan.cluster_bytes(), u"$Bad");
  bad.initialised = 0;
  out.push_back(std::move(bad));
}

void add_system_contents(const Plan& plan, std::uint32_t record, std::vector<Attribute>& out) {
  const std::uint64_t cluster = plan.cluster_bytes();
  const auto stream = stream_of(record);
  if (stream) {
    out.push_back(non_resident(at_data, plan.runs(*stream), plan.size(*stream), cluster));
    if (record == record_mft) {
      out.push_back(non_resident(at_bitmap, plan.runs(Stream::mft_bitmap),
                                 plan.size(Stream::mft_bitmap), cluster));
    }
    return;
  }
  switch (record) {
    case record_volume_info:
      return add_volume(plan, out);
    case record_boot:
      out.push_back(non_resident(at_data, {{0, plan.boot_clusters()}}, 8192, cluster));
      return;
    case record_bad:
      return add_bad_clusters(plan, out);
    case record_secure:
      out.push_back(non_resident(at_data, plan.runs(Stream::security), plan.size(Stream::security),
                                 cluster, u"$SDS"));
      out.push_back(view_index(plan, u"$SDH", collate_security_hash, plan.security().sdh));
      out.push_back(view_index(plan, u"$SII", collate_ulong, plan.security().sii));
      return;
    case record_extend_folder:
      return add_folder(plan, plan.system(record), out);
    case first_user_record:
      out.push_back(view_index(plan, u"$O", collate_sid, {}));
      out.push_back(view_index(plan, u"$Q", collate_ulong, default_quota(plan.format().made)));
      return;
    case first_user_record + 1:
      out.push_back(view_index(plan, u"$O", collate_ulongs, {}));
      return;
    case first_user_record + 2:
      out.push_back(view_index(plan, u"$R", collate_ulongs, {}));
      return;
    default:  // 12 to 15: in use and empty
      out.push_back(resident(at_data, {}));
  }
}

}  // namespace

std::vector<Attribute> head_attributes_of(const Plan& plan, Entity e) {
  std::vector<Attribute> out;
  out.reserve(4);
  const bool of_system = plan.is_system(e) || e == FileTree::root;
  out.push_back(resident(at_standard_information,
                         standard_information(stamp_of(plan, e), of_system && e != FileTree::root
                                                                     ? security_of_system
                                                                     : security_of_files)));
  const bool nameless = plan.is_system(e) && system_file(e - plan.system(0)) == nullptr;
  if (!nameless) add_names(plan, e, out);
  return out;
}

std::vector<Attribute> attributes_of(const Plan& plan, Entity e) {
  std::vector<Attribute> out = head_attributes_of(plan, e);
  if (plan.is_system(e)) {
    add_system_contents(plan, e - plan.system(0), out);
  } else if (plan.tree().is_directory(e)) {
    add_folder(plan, e, out);
  } else if (plan.tree().bytes(e) == 0) {
    out.push_back(resident(at_data, {}));
  } else {
    out.push_back(
        non_resident(at_data, plan.contents_of(e), plan.tree().bytes(e), plan.cluster_bytes()));
  }
  return out;
}

RecordHead head_of(const Plan& plan, Entity e) {
  RecordHead out;
  const std::uint64_t reference = plan.reference_of(e);
  out.number = record_of(reference);
  out.sequence = sequence_of(reference);
  out.links = has_short(plan, e) ? 2 : 1;
  if (!plan.is_system(e)) {
    if (plan.tree().is_directory(e)) out.flags |= record_directory;
    return out;
  }
  const std::uint32_t record = e - plan.system(0);
  if (system_file(record) == nullptr) out.links = 0;
  if (record == record_extend_folder) out.flags |= record_directory;
  if (record == record_secure) out.flags |= record_view_index;
  if (record >= first_user_record) out.flags |= record_extend | record_view_index;
  return out;
}

namespace {

// Sorts what is not in order already: most folders were filled in some order.
template <typename Item, typename Less>
void put_in_order(std::vector<Item>& items, Less less) {
  if (!std::is_sorted(items.begin(), items.end(), less))
    std::sort(items.begin(), items.end(), less);
}

}  // namespace

std::vector<NameOf> sorted_names(const Plan& plan, Entity folder) {
  // Folded once, in one pool: a folder may have tens of thousands of names.
  struct Folded {
    NameOf name;
    std::size_t at, length;
  };
  std::u16string pool;
  std::vector<Folded> names, short_names;
  const auto add = [&](std::vector<Folded>& to, NameOf n) {
    const std::u16string_view text = text_of(plan, n);
    to.push_back({n, pool.size(), text.size()});
    for (const char16_t unit : text) pool.push_back(plan.upcase()(unit));
  };
  const auto add_system = [&](std::uint32_t parent) {
    for (const SystemFile& f : system_files) {
      if (f.parent != parent) continue;
      add(names, {f.record == record_root ? FileTree::root : plan.system(f.record), false});
    }
  };
  if (plan.is_system(folder)) {
    add_system(folder - plan.system(0));
  } else {
    if (folder == FileTree::root) add_system(record_root);
    for (const FileTree::Id id : plan.tree().children(folder)) {
      add(names, {id, false});
      if (has_short(plan, id)) add(short_names, {id, true});
    }
  }
  const std::u16string_view all = pool;
  const auto less = [all](const Folded& a, const Folded& b) {
    return all.substr(a.at, a.length) < all.substr(b.at, b.length);
  };
  put_in_order(names, less);
  put_in_order(short_names, less);
  std::vector<Folded> merged(names.size() + short_names.size());
  std::merge(names.begin(), names.end(), short_names.begin(), short_names.end(), merged.begin(),
             less);
  std::vector<NameOf> out;
  out.reserve(merged.size());
  for (const Folded& f : merged) out.push_back(f.name);
  return out;
}

std::uint32_t name_entry_bytes(const Plan& plan, NameOf name) {
  return static_cast<std::uint32_t>(
      entry_bytes(sizeof(FileNameHead) + 2 * text_of(plan, name).size()));
}

std::vector<IndexItem> folder_items(const Plan& plan, Entity folder) {
  std::vector<IndexItem> out;
  for (const NameOf& n : sorted_names(plan, folder)) {
    IndexItem item;
    item.head = plan.reference_of(n.entity);
    item.body = name_value(plan, n);
    item.key_length = static_cast<std::uint16_t>(item.body.size());
    out.push_back(std::move(item));
  }
  return out;
}

const std::vector<std::u16string>& reserved_root_names() {
  static const std::vector<std::u16string> names = [] {
    std::vector<std::u16string> out;
    for (const SystemFile& f : system_files) {
      if (f.parent == record_root && f.record != record_root) out.emplace_back(f.name);
    }
    return out;
  }();
  return names;
}

}  // namespace nuvrat::ntfs
