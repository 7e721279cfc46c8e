// From an NTFS volume to a FileTree: every record once in the order of the disk, then the folders'
// indexes from the root down, as the system that owns the volume shows them.

#include "ntfs/read.h"

#include <algorithm>
#include <map>
#include <set>
#include <unordered_map>
#include <utility>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/function_ref.h>

#include "base/finding_log.h"
#include "base/record.h"
#include "base/sparse_array.h"
#include "ntfs/fit.h"
#include "ntfs/folder_index.h"
#include "ntfs/mirror.h"
#include "ntfs/security.h"
#include "ntfs/volume_info.h"

namespace nuvrat::ntfs {
namespace {

// What a record says of its file; names come from the folders. There is one for each record of the
// volume, so it is kept small.
struct FileFacts {
  Ticks created = 0, modified = 0, accessed = 0;
  std::uint64_t size = 0;
  std::uint32_t extents_at = 0, extents_count = 0;
  std::uint32_t attributes = 0;
  FileTree::Id first_name = FileTree::none;
  std::uint16_t sequence = 0;
  Stored stored = Stored::extents;
  bool known = false;
  bool directory = false;
  bool linked = false;  // it has several names
};
static_assert(sizeof(FileFacts) <= 56);

// Contents besides the unnamed ones: named streams, extended attributes, and where a reparse point
// leads.
struct SideStream {
  std::uint32_t type;
  std::u16string name;
  std::uint64_t size;
};

class NtfsReader final : public VolumeReader {
 public:
  NtfsReader(const Device& device, bool short_names) : volume_(device), short_names_(short_names) {
    require_right_boot(volume_);
    note_stand_ins(volume_, log_);
    info_ = read_info(volume_, log_);
  }

  [[nodiscard]] const VolumeInfo& info() const override { return info_; }
  [[nodiscard]] const Findings& findings() const override { return log_.kept(); }
  [[nodiscard]] const Device& device() const override { return volume_.device(); }

  [[nodiscard]] const FileTree& tree() override {
    if (!walked_) {
      read_records();
      tree_.adopt_extents(std::exchange(extents_, {}));
      walk();
      leave_out_unlisted();
      facts_.clear();
    }
    walked_ = true;
    return tree_;
  }

  [[nodiscard]] FileTree take_tree() override {
    (void)tree();
    return std::exchange(tree_, FileTree());
  }

  // From the runlists themselves: $Bitmap only says what they are said to be.
  [[nodiscard]] SectorSet owned() override {
    SectorSet out;
    const std::uint64_t spc = volume_.cluster_sectors();
    volume_.each_record([&](std::uint64_t number, ByteSpan record, Volume::RecordState state) {
      if (state == Volume::RecordState::unreadable)
        throw Error(ErrorCode::device_read, "what a record owns can't be read", {.record = number});
      if (state != Volume::RecordState::sound || !is_in_use(record) || base_of(record) != 0) return;
      for (const AttributeView& a : attributes_or_none(number, record)) {
        for (const Run& r : a.runs) {
          if (r.lcn != Run::hole) out.add({r.lcn * spc, r.count * spc});
        }
      }
    });
    const std::uint64_t last = volume_.geometry().total_sectors *
                               (volume_.geometry().sector_bytes / volume_.device().sector_size());
    if (last < volume_.device().sectors()) out.add({last, 1});  // the second boot sector
    return out;
  }

  [[nodiscard]] SectorSet bad() const override {
    SectorSet out;
    Bytes record;
    if (volume_.read_record(record_bad, record) != Volume::RecordState::sound) return out;
    const auto all = volume_.attributes(record_bad, record);
    const AttributeView* a = find_attribute(all, at_data, u"$Bad");
    const std::uint64_t spc = volume_.cluster_sectors();
    for (const Run& r : a == nullptr ? Runs{} : a->runs) {
      if (r.lcn != Run::hole) out.add({r.lcn * spc, r.count * spc});
    }
    return out;
  }

  void read_contents(FileTree::Id id, ByteSink sink) override {
    const std::uint64_t number = record_of_[id];
    const auto all = volume_.attributes(number);
    const auto side = sides_of_.find(id);
    const AttributeView* a = side == sides_of_.end()
                                 ? find_attribute(all, at_data)
                                 : find_attribute(all, side->second.type, side->second.name);
    if (a == nullptr) throw Error(ErrorCode::damaged, "the contents are gone", {.record = number});
    volume_.stream(*a, sink);
  }

  [[nodiscard]] FileExtras extras(FileTree::Id id) override {
    const auto all = volume_.attributes(record_of_[id]);
    FileExtras out;
    out.permissions = permissions(all);
    if (const AttributeView* own = find_attribute(all, at_object_id)) out.object_id = own->value;
    return out;
  }

 private:
  static constexpr std::uint64_t max_descriptor_bytes = 1u << 20;
  static constexpr std::uint64_t max_descriptors_bytes = 1u << 28;

  [[nodiscard]] Bytes permissions(const std::vector<AttributeView>& all) {
    const AttributeView* own = find_attribute(all, at_security_descriptor);
    if (own != nullptr) return volume_.read_all(*own, max_descriptor_bytes);
    const AttributeView* info = find_attribute(all, at_standard_information);
    if (info == nullptr || info->value.size() < sizeof(StandardInformation)) return {};
    if (!descriptors_) {
      descriptors_.emplace();
      const auto secure = volume_.attributes(record_secure);
      if (const AttributeView* sds = find_attribute(secure, at_data, u"$SDS"))
        descriptors_ = read_descriptors(volume_.read_all(*sds, max_descriptors_bytes));
    }
    const auto it = descriptors_->find(load<StandardInformation>(info->value).security_id.value());
    return it == descriptors_->end() ? Bytes{} : it->second;
  }

  static std::uint64_t base_of(ByteView record) { return load<FileRecord>(record).base.value(); }

  void add_finding(Rule code, Severity severity, std::uint64_t record, FileTree::Id node,
                   std::string text) {
    log_.add(
        code, severity, [&] { return Place{.record = record, .path = tree_.path(node)}; },
        std::move(text));
  }

  [[nodiscard]] std::vector<AttributeView> attributes_or_none(std::uint64_t number,
                                                              ByteView record) const {
    try {
      return volume_.attributes(number, record);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged) throw;
      return {};
    }
  }

  void read_records() {
    if (volume_.records() > FileTree::none)
      throw Error(ErrorCode::damaged, fmt::format("$MFT would have {} records", volume_.records()));
    volume_.each_record([&](std::uint64_t number, ByteSpan record, Volume::RecordState state) {
      if (state == Volume::RecordState::torn) {
        note_bad_record(Rule::ntfs_record_torn, number,
                        "its record was not written whole: the update sequence differs");
        return;
      }
      if (state == Volume::RecordState::unreadable) {
        note_bad_record(Rule::ntfs_record_unreadable, number, "the device doesn't give its record");
        return;
      }
      const bool user = number >= first_user_record || number == record_root;
      if (state != Volume::RecordState::sound || !user || !is_in_use(record) ||
          base_of(record) != 0)
        return;
      try {
        take_facts(number, record);
      } catch (const Error& e) {
        if (e.code() != ErrorCode::damaged) throw;
        note_bad_record(Rule::ntfs_record, number, e.message());
      }
    });
  }

  // Its name, where one leads to it, is left out of the tree for this reason.
  void note_bad_record(Rule code, std::uint64_t number, const std::string& reason) {
    add_finding(code, Severity::error, number, FileTree::root, reason);
    if (bad_records_.size() < max_left_out) bad_records_[number] = reason;
  }

  void leave_name_out(FileTree::Id parent, const IndexedName& n, const std::string& reason) {
    const std::string above = tree_.path(parent);
    leave_out(
        {above + (above.empty() ? "" : "/") + to_utf8(n.name), record_of(n.reference), reason});
  }

  void take_facts(std::uint64_t number, ByteView record) {
    const auto all = volume_.attributes(number, record);
    const auto header = load<FileRecord>(record);
    FileFacts f;
    f.known = true;
    f.directory = (header.flags.value() & record_directory) != 0;
    f.sequence = header.sequence.value();
    if (const AttributeView* s = find_attribute(all, at_standard_information);
        s != nullptr && s->value.size() >= 48) {
      Bytes value = s->value;
      value.resize(sizeof(StandardInformation));
      const auto info = load<StandardInformation>(value);
      f.created = info.created.value();
      f.modified = info.modified.value();
      f.accessed = info.accessed.value();
      f.attributes = info.attributes.value();
    }
    unsigned names = 0;
    for (const AttributeView& a : all) {
      if (a.type == at_file_name && a.value.size() >= sizeof(FileNameHead))
        names += load<FileNameHead>(a.value).name_space == name_dos ? 0 : 1;
      const bool named = a.type == at_data && !a.name.empty();
      if (named || a.type == at_reparse_point || a.type == at_ea) {
        sides_[number].push_back({a.type, a.name, a.bytes()});
      } else if (a.type == at_data && !f.directory) {
        take_contents(number, a, f);
      }
    }
    f.linked = names > 1;
    facts_[number] = f;
    facts_.hold(number);
  }

  void take_contents(std::uint64_t number, const AttributeView& a, FileFacts& f) {
    f.size = a.bytes();
    const bool packed = (a.flags & attribute_compressed) != 0 && a.compression_unit != 0;
    if (a.resident || packed) {
      f.stored = Stored::elsewhere;
      if (f.size == 0) f.stored = Stored::extents;
      return;
    }
    if (a.initialised < a.size) valid_[number] = a.initialised;
    f.extents_at = static_cast<std::uint32_t>(extents_.size());
    if (a.runs.size() >= FileTree::none - extents_.size())
      throw Error(ErrorCode::damaged, "the files are in more pieces than can be held");
    const std::uint64_t spc = volume_.cluster_sectors();
    // Runs after the end hold nothing.
    std::uint64_t sectors = div_up(f.size, volume_.geometry().cluster_bytes()) * spc;
    for (const Run& r : a.runs) {
      const std::uint64_t count = std::min(r.count * spc, sectors);
      if (count == 0) break;
      extents_.push_back({r.lcn == Run::hole ? FileTree::hole : r.lcn * spc, count});
      sectors -= count;
    }
    f.extents_count = static_cast<std::uint32_t>(extents_.size()) - f.extents_at;
  }

  void walk() {
    record_of_.assign(1, record_root);
    add_sides(FileTree::root, u"", record_root);  // of the root folder itself
    struct Open {
      FileTree::Id id;
      std::uint64_t record;
      std::size_t path_units;
    };
    std::vector<Open> open{{FileTree::root, record_root, 0}};
    std::set<std::uint64_t> seen{record_root};
    while (!open.empty()) {
      const Open folder = open.back();
      open.pop_back();
      FolderNames contents;
      try {
        contents = read_folder_index(volume_, folder.record, volume_.attributes(folder.record));
      } catch (const Error& e) {
        if (e.code() != ErrorCode::damaged && e.code() != ErrorCode::device_read) throw;
        contents.faults.push_back(e.message());
      }
      for (const std::string& fault : contents.faults) {
        add_finding(Rule::ntfs_index, Severity::error, folder.record, folder.id, fault);
        leave_out({tree_.path(folder.id), folder.record, fault});
      }
      const std::vector<IndexedName>& names = contents.names;
      std::map<std::uint64_t, std::u16string> short_names;
      for (const IndexedName& n : names) {
        if (n.space == name_dos && short_names_) short_names[n.reference] = n.name;
      }
      for (const IndexedName& n : names) {
        const std::uint64_t record = record_of(n.reference);
        if (n.space == name_dos || record < first_user_record) continue;
        const auto alias = short_names.find(n.reference);
        const std::u16string short_name =
            alias == short_names.end() ? std::u16string() : alias->second;
        const FileTree::Id id = add_node(folder.id, n, short_name);
        if (id != FileTree::none && tree_.is_directory(id)) {
          const std::size_t units = folder.path_units + 1 + n.name.size();
          if (!seen.insert(record).second) {
            add_finding(Rule::ntfs_folder_twice, Severity::error, record, id,
                        "the folder has two names");
            leave_out({tree_.path(id), record, "the folder's contents are under its other name"});
          } else if (units > FileTree::max_path_units) {
            add_finding(Rule::ntfs_path_too_long, Severity::error, record, folder.id,
                        "folders inside it are too deep for any system");
            leave_out({tree_.path(folder.id), record, "folders inside it are too deep"});
          } else {
            open.push_back({id, record, units});
          }
        }
      }
    }
  }

  // Files that no folder leads to, but what the system keeps in $Extend.
  void leave_out_unlisted() {
    std::vector<std::uint64_t> unlisted;
    facts_.each([&unlisted](std::uint64_t number, const FileFacts& f) {
      const bool met = f.first_name != FileTree::none || (f.directory && f.linked);
      if (f.known && !met && number >= first_user_record) unlisted.push_back(number);
    });
    std::sort(unlisted.begin(), unlisted.end());
    for (const std::uint64_t number : unlisted) {
      if (left_out().size() == max_left_out) break;
      const auto [name, parent] = named_in(number);
      if (is_below_extend(parent)) continue;
      add_finding(Rule::ntfs_name_unlisted, Severity::error, number, FileTree::root,
                  "no folder leads to the file");
      leave_out({to_utf8(name), number, "no folder leads to it"});
    }
  }

  // What the record says of its first name.
  [[nodiscard]] std::pair<std::u16string, std::uint64_t> named_in(std::uint64_t number) const {
    const auto all = volume_.attributes_if_readable(number);
    const AttributeView* a = find_attribute(all, at_file_name);
    if (a == nullptr || a->value.size() < sizeof(FileNameHead)) return {};
    const auto head = load<FileNameHead>(a->value);
    const ByteView rest = ByteView(a->value).subspan(sizeof(FileNameHead));
    return {utf16_from(
                rest.first(std::min<std::size_t>(rest.size(), std::size_t{2} * head.name_length))),
            record_of(head.parent.value())};
  }

  [[nodiscard]] bool is_below_extend(std::uint64_t folder) const {
    constexpr unsigned deepest = 8;
    for (unsigned up = 0; up < deepest && folder >= first_user_record; ++up)
      folder = named_in(folder).second;
    return folder == record_extend_folder;
  }

  FileTree::Id add_node(FileTree::Id parent, const IndexedName& n,
                        const std::u16string& short_name) {
    const std::uint64_t record = record_of(n.reference);
    FileFacts* f = facts_.find(record);
    if (f == nullptr || !f->known || f->sequence != sequence_of(n.reference)) {
      const auto bad = bad_records_.find(record);
      add_finding(Rule::ntfs_name_dangling, Severity::error, record, parent,
                  fmt::format("'{}' names a file whose record isn't there, or has another name",
                              printable(to_utf8(n.name))));
      leave_name_out(
          parent, n,
          bad == bad_records_.end() ? "its record isn't there, or has another name" : bad->second);
      return FileTree::none;
    }
    if (n.name.empty() || n.name.find_first_of(std::u16string_view(u"/\0", 2)) != n.name.npos) {
      add_finding(Rule::ntfs_name_illegal, Severity::error, record, parent,
                  fmt::format("'{}' is empty or holds a character that no name may hold",
                              printable(to_utf8(n.name))));
      leave_name_out(parent, n, "the name is empty or holds a character that no name may hold");
      return FileTree::none;
    }
    FileTree::Info info;
    info.directory = f->directory;
    info.attributes = f->attributes;
    info.size = f->directory ? 0 : f->size;
    info.created = f->created;
    info.modified = f->modified;
    info.accessed = f->accessed;
    const FileTree::Id id =
        tree_.add(parent, n.name, short_name.size() > 12 ? u"" : short_name, info);
    record_of_.push_back(static_cast<std::uint32_t>(record));
    if ((f->attributes & attr_encrypted_file) != 0) {
      add_finding(Rule::ntfs_encrypted, Severity::note, record, id,
                  "the file is encrypted: its hash is that of what is on the disk");
    }
    if (!f->directory) {
      tree_.set_stored(id, f->stored);
      if (const auto valid = valid_.find(record); valid != valid_.end())
        tree_.set_valid_bytes(id, valid->second);
      if (f->first_name == FileTree::none) {
        f->first_name = id;
      } else {
        tree_.set_link(id, f->first_name);
      }
      tree_.set_extents(id, f->extents_at, f->extents_count);
    }
    add_sides(parent, n.name, record);
    if (!f->linked) {  // asked for once
      f->known = false;
      facts_.let_go(record);
    }
    return id;
  }

  // What a file has beside its contents, as nodes "file:stream".
  void add_sides(FileTree::Id parent, const std::u16string& name, std::uint64_t record) {
    const auto sides = sides_.find(record);
    if (sides == sides_.end()) return;
    for (const SideStream& s : sides->second) {
      FileTree::Info info;
      info.size = s.size;
      const std::u16string stream = s.type == at_reparse_point ? u"$REPARSE_POINT"
                                    : s.type == at_ea          ? u"$EA"
                                                               : s.name;
      std::u16string node = name;
      node += u':';
      node += stream;
      const FileTree::Id id = tree_.add(parent, node, u"", info);
      record_of_.push_back(static_cast<std::uint32_t>(record));
      tree_.set_stored(id, s.size == 0 ? Stored::extents : Stored::elsewhere);
      tree_.set_stream(id);
      sides_of_[id] = s;
    }
  }

  Volume volume_;
  bool short_names_;
  VolumeInfo info_;
  FileTree tree_;
  base::FindingLog log_;
  bool walked_ = false;
  base::SparseArray<FileFacts> facts_;  // by record
  std::vector<SectorRange> extents_;
  std::unordered_map<std::uint64_t, std::vector<SideStream>> sides_;  // by record
  std::unordered_map<FileTree::Id, SideStream> sides_of_;             // by node
  std::unordered_map<std::uint64_t, std::uint64_t> valid_;            // by record
  std::vector<std::uint32_t> record_of_;                              // by node
  std::optional<std::map<std::uint32_t, Bytes>> descriptors_;         // by id, once asked for
  std::map<std::uint64_t, std::string> bad_records_;                  // why it can't be read
};

}  // namespace

std::unique_ptr<VolumeReader> open_reader(const Device& device, const ReadOptions& options) {
  return std::make_unique<NtfsReader>(device, options.short_names);
}

}  // namespace nuvrat::ntfs
