// The rules of single records: header, attributes, names, sizes.

#include <algorithm>
#include <map>
#include <set>
#include <tuple>

#include <fmt/core.h>
#include <xxhash.h>

#include "base/record.h"
#include "ntfs/check_state.h"

namespace nuvrat::ntfs {

namespace {

// Enough of a size to tell it from others.
std::uint16_t short_hash(std::uint64_t size) {
  return static_cast<std::uint16_t>(XXH3_64bits(&size, sizeof size));
}

}  // namespace

CheckState::Name hash_name(std::uint64_t record_reference, ByteView value,
                           std::optional<std::uint64_t> real_size) {
  // Parent, and from the name's length on: times, sizes and bits between them grow old on either
  // side.
  constexpr std::size_t length_at = offsetof(FileNameHead, name_length);
  std::uint64_t hash = XXH3_64bits_withSeed(value.data(), 8, record_reference);
  hash = XXH3_64bits_withSeed(value.data() + length_at, value.size() - length_at, hash);
  const std::uint64_t said = load<FileNameHead>(value).data_size.value();
  return {hash, short_hash(said), short_hash(real_size.value_or(said)),
          static_cast<std::uint32_t>(record_of(record_reference))};
}

namespace {

using RecordState = Volume::RecordState;

class RecordCheck {
 public:
  RecordCheck(CheckState& state, std::uint64_t number, ByteView record)
      : state_(state), number_(number), record_(record), header_(load<FileRecord>(record)) {}

  void run() {
    check_header();
    if (!check_attributes()) return;
    if (header_.base.value() != 0) {
      check_extension();
      return;
    }
    try {
      check_file(state_.volume.attributes(number_, record_));
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged) throw;
      error(Rule::ntfs_record, e.message());
    }
  }

 private:
  void error(Rule code, std::string text) { state_.error(code, number_, std::move(text)); }
  void warning(Rule code, std::string text) {
    state_.finding(code, Severity::warning, number_, std::move(text));
  }

  void check_header() {
    if (header_.bytes_allocated.value() != record_.size())
      error(Rule::ntfs_record_size, fmt::format("the record says that it has {} bytes, not {}",
                                                header_.bytes_allocated.value(), record_.size()));
    // Records of the older form have their update sequence where the number would be.
    const bool numbered = header_.multi.usa_offset.value() >= sizeof(FileRecord);
    if (numbered && header_.number.value() != (number_ & 0xFFFFFFFF))
      error(Rule::ntfs_record_number,
            fmt::format("the record says that it is number {}", header_.number.value()));
    if (header_.sequence.value() == 0)
      error(Rule::ntfs_sequence_zero, "the record's sequence number is 0, which is never used");
    if (number_ > 0 && number_ < 16 && header_.sequence.value() != number_)
      warning(
          Rule::ntfs_sequence_system,
          fmt::format("the record of the system has sequence number {}", header_.sequence.value()));
  }

  // Each attribute by itself and in its order; false when they can't be parsed.
  bool check_attributes() {
    const std::size_t used = header_.bytes_in_use.value();
    std::size_t at = header_.first_attribute.value();
    std::pair<std::uint32_t, std::u16string> before{0, u""};
    std::set<std::uint16_t> instances;
    if (used > record_.size()) {
      error(Rule::ntfs_record_size, fmt::format("the record says that it uses {} bytes", used));
      return false;
    }
    while (true) {
      if (at % 8 != 0 || at + 8 > used) {
        error(Rule::ntfs_attribute_end, fmt::format("no end mark before byte {}", used));
        return false;
      }
      const auto type = load<be::little_uint32_buf_t>(record_, at).value();
      if (type == at_end) break;
      if (sizeof(AttributeHeader) + sizeof(ResidentHeader) > used - at) {
        error(Rule::ntfs_attribute_form, fmt::format("the attribute at byte {} is cut off", at));
        return false;
      }
      const auto head = load<AttributeHeader>(record_, at);
      const std::size_t length = head.length.value();
      if (length < 24 || length % 8 != 0 || length > used - at) {
        error(Rule::ntfs_attribute_form,
              fmt::format("the attribute at byte {} says that it has {} bytes", at, length));
        return false;
      }
      check_order(type, at, head, before);
      if (!instances.insert(head.instance.value()).second ||
          head.instance.value() >= header_.next_attribute_id.value())
        error(Rule::ntfs_attribute_id,
              fmt::format("the attribute at byte {} has the id {}, which is another's or not "
                          "below the next one, {}",
                          at, head.instance.value(), header_.next_attribute_id.value()));
      check_form(at, head);
      at += length;
    }
    if (used != at + 8)
      warning(Rule::ntfs_attribute_end,
              fmt::format("the record uses {} bytes but says {}", at + 8, used));
    return true;
  }

  void check_order(std::uint32_t type, std::size_t at, const AttributeHeader& head,
                   std::pair<std::uint32_t, std::u16string>& before) {
    static const std::set<std::uint32_t> known = {0x10, 0x20, 0x30, 0x40, 0x50, 0x60, 0x70, 0x80,
                                                  0x90, 0xA0, 0xB0, 0xC0, 0xD0, 0xE0, 0x100};
    if (known.count(type) == 0)
      warning(Rule::ntfs_attribute_type,
              fmt::format("an attribute of the unknown type {:X}", type));
    std::u16string name;
    const std::size_t name_at = at + head.name_offset.value();
    const std::size_t bytes = std::size_t{head.name_length} * 2;
    if (bytes > 0 && name_at + bytes <= at + head.length.value())
      name = state_.upcase.fold(utf16_from(record_.subspan(name_at, bytes)));
    std::pair<std::uint32_t, std::u16string> here{type, name};
    if (here < before)
      error(Rule::ntfs_attribute_order,
            fmt::format("the attribute of type {:X} at byte {} comes after one of type {:X}", type,
                        at, before.first));
    before = std::move(here);
  }

  void check_form(std::size_t at, const AttributeHeader& head) {
    const ByteView body = record_.subspan(at, head.length.value());
    if (head.non_resident == 0) {
      const auto r = load<ResidentHeader>(body, sizeof(AttributeHeader));
      if (r.value_offset.value() % 8 != 0)
        error(Rule::ntfs_attribute_form,
              fmt::format("the value of the attribute at byte {} is not 8-aligned", at));
      if (r.indexed != (head.type.value() == at_file_name ? 1 : 0))
        warning(Rule::ntfs_attribute_indexed,
                fmt::format("the attribute at byte {} says wrongly whether it is indexed", at));
      return;
    }
    if (body.size() < sizeof(AttributeHeader) + sizeof(NonResidentHeader)) {
      error(Rule::ntfs_attribute_form, fmt::format("the attribute at byte {} is cut off", at));
      return;
    }
    const auto n = load<NonResidentHeader>(body, sizeof(AttributeHeader));
    constexpr std::size_t with_occupied = sizeof(AttributeHeader) + sizeof(NonResidentHeader) + 8;
    if ((head.flags.value() & (attribute_sparse | attribute_compressed)) != 0 &&
        n.lowest_vcn.value() == 0 && n.runs_offset.value() < with_occupied)
      error(Rule::ntfs_attribute_flags,
            fmt::format("the attribute at byte {} says that it is sparse or compressed, but not "
                        "how many bytes it occupies",
                        at));
    Runs runs;
    try {
      const std::size_t runs_at = std::min<std::size_t>(n.runs_offset.value(), body.size());
      decode_runs(body.subspan(runs_at), state_.volume.geometry().clusters(),
                  clusters_named(n, state_.volume.geometry()), runs);
      check_minimal(body.subspan(runs_at), at);
    } catch (const Error& e) {
      if (e.code() != ErrorCode::damaged) throw;
      error(Rule::ntfs_runlist, e.message());
      return;
    }
    const std::uint64_t clusters = clusters_in(runs);
    if (n.highest_vcn.value() + 1 != n.lowest_vcn.value() + clusters)
      error(Rule::ntfs_runlist_length,
            fmt::format("the runlist at byte {} has {} clusters, its header says {} to {}", at,
                        clusters, n.lowest_vcn.value(), n.highest_vcn.value()));
    for (const Run& r : runs) {
      if (r.lcn != Run::hole)
        state_.claims.push_back(
            {r.lcn, r.count, static_cast<std::uint32_t>(number_), head.type.value()});
    }
  }

  // A number takes as few bytes as hold it with its sign.
  void check_minimal(ByteView pairs, std::size_t at) {
    const auto minimal = [&pairs](std::size_t first, unsigned width) {
      if (width < 2) return true;
      const unsigned top = pairs[first + width - 1];
      const bool sign_below = (pairs[first + width - 2] & 0x80) != 0;
      return !((top == 0x00 && !sign_below) || (top == 0xFF && sign_below));
    };
    for (std::size_t i = 0; i < pairs.size() && pairs[i] != 0;) {
      const unsigned length = pairs[i] & 0x0F;
      const unsigned width = pairs[i] >> 4;
      if (!minimal(i + 1, length) || !minimal(i + 1 + length, width)) {
        state_.finding(Rule::ntfs_runlist_form, Severity::note, number_,
                       fmt::format("a number in the runlist at byte {} takes more bytes than it "
                                   "needs",
                                   at));
        return;
      }
      i += 1 + length + width;
    }
  }

  void check_extension() {
    const std::uint64_t base = record_of(header_.base.value());
    Bytes record;
    if (base >= state_.volume.records() ||
        state_.volume.read_record(base, record) != RecordState::sound || !is_in_use(record) ||
        load<FileRecord>(record).sequence.value() != sequence_of(header_.base.value()) ||
        load<FileRecord>(record).base.value() != 0) {
      error(Rule::ntfs_extension,
            fmt::format("the record continues record {}, which isn't there", base));
    }
  }

  void check_file(const std::vector<AttributeView>& all) {
    const std::uint64_t reference = file_reference(number_, header_.sequence.value());
    const AttributeView* contents = find_attribute(all, at_data);
    const std::uint64_t size = contents == nullptr ? 0 : contents->bytes();
    std::uint64_t names = 0;
    for (const AttributeView& a : all) {
      if (a.type == at_file_name) {
        ++names;
        check_name(a, reference, size);
      }
      if (!a.resident) check_sizes(a);
      if (a.type == at_data) check_flags(a);
      if (a.type == at_index_root && a.name != u"$I30") check_view(a);
    }
    if (names != header_.links.value())
      error(Rule::ntfs_link_count, fmt::format("the record has {} names and counts {} links", names,
                                               header_.links.value()));
    check_short_names(all);
    check_list(all);
    check_information(all);
    const bool directory = (header_.flags.value() & record_directory) != 0;
    if (contents != nullptr && !directory && number_ >= first_user_record) {
      ++state_.totals.files;
      state_.totals.bytes += size;
    }
    if (directory != (find_attribute(all, at_index_root, u"$I30") != nullptr))
      error(Rule::ntfs_directory_flag, "the record is a folder without an index, or the other way");
    const bool nameless_allowed = number_ < first_user_record;
    if (names == 0 && !nameless_allowed) error(Rule::ntfs_nameless, "the file has no name");
  }

  // One name at most has a short one, in the same folder: further names of a file have none.
  void check_short_names(const std::vector<AttributeView>& all) {
    std::vector<std::uint64_t> short_in, long_in;
    unsigned both = 0;
    for (const AttributeView& a : all) {
      if (a.type != at_file_name || a.value.size() < sizeof(FileNameHead)) continue;
      const auto head = load<FileNameHead>(a.value);
      if (head.name_space == name_dos) short_in.push_back(head.parent.value());
      if (head.name_space == name_win32) long_in.push_back(head.parent.value());
      both += head.name_space == name_both ? 1 : 0;
    }
    if (short_in.size() + both > 1)
      error(Rule::ntfs_short_names,
            fmt::format("{} of the file's names have short ones", short_in.size() + both));
    if (!short_in.empty() &&
        std::find(long_in.begin(), long_in.end(), short_in.front()) == long_in.end())
      error(Rule::ntfs_short_names, "a short name is there without its long one");
  }

  // Every segment that the list names exists, and every one that exists is named.
  void check_list(const std::vector<AttributeView>& all) {
    const AttributeView* list = find_attribute(all, at_attribute_list);
    if (list == nullptr) return;
    const Bytes entries = state_.volume.read_all(*list, 8u << 20);
    std::tuple<std::uint32_t, std::u16string, std::uint64_t> before{0, u"", 0};
    for (std::size_t at = 0; at + sizeof(AttributeListEntry) <= entries.size();) {
      const auto e = load<AttributeListEntry>(entries, at);
      const std::size_t name_bytes = std::size_t{e.name_length} * 2;
      if (e.length.value() < sizeof e + name_bytes || e.length.value() % 8 != 0 ||
          e.length.value() > entries.size() - at) {
        error(Rule::ntfs_attribute_list, fmt::format("the entry at byte {} makes no sense", at));
        return;
      }
      std::tuple<std::uint32_t, std::u16string, std::uint64_t> here{
          e.type.value(),
          state_.upcase.fold(utf16_from(ByteView(entries).subspan(at + e.name_offset, name_bytes))),
          e.lowest_vcn.value()};
      if (here < before)
        error(Rule::ntfs_attribute_list, fmt::format("the entry at byte {} is out of order", at));
      before = std::move(here);
      if (!segment_exists(e))
        error(Rule::ntfs_attribute_list,
              fmt::format("it names an attribute of type {:X} in record {} that isn't there",
                          e.type.value(), record_of(e.reference.value())));
      at += e.length.value();
    }
  }

  bool segment_exists(const AttributeListEntry& e) {
    const std::uint64_t number = record_of(e.reference.value());
    if (number != cached_ && state_.volume.read_record(number, cache_) != RecordState::sound)
      return false;
    cached_ = number;
    const auto header = load<FileRecord>(cache_);
    if (header.sequence.value() != sequence_of(e.reference.value())) return false;
    for (std::size_t at = header.first_attribute.value();
         at + sizeof(AttributeHeader) <= cache_.size();) {
      const auto head = load<AttributeHeader>(cache_, at);
      if (head.type.value() == at_end || head.length.value() < 24) return false;
      if (head.type.value() == e.type.value() && head.instance.value() == e.instance.value())
        return true;
      at += head.length.value();
    }
    return false;
  }

  void check_name(const AttributeView& a, std::uint64_t reference, std::uint64_t size) {
    if (a.value.size() < sizeof(FileNameHead) ||
        a.value.size() <
            sizeof(FileNameHead) + std::size_t{2} * load<FileNameHead>(a.value).name_length) {
      error(Rule::ntfs_name_form, "a name leaves its attribute");
      return;
    }
    const auto head = load<FileNameHead>(a.value);
    if (head.name_space > name_both)
      error(Rule::ntfs_name_form, fmt::format("a name has the name space {}", head.name_space));
    const bool directory = (header_.flags.value() & record_directory) != 0;
    if (directory != ((head.attributes.value() & file_name_directory) != 0))
      error(Rule::ntfs_name_form, "a name says wrongly whether it is a folder's");
    state_.names_of_records.push_back(hash_name(reference, a.value, size));
    if (directory && head.name_space != name_dos) {
      state_.folders.back().parent = record_of(head.parent.value());
      state_.folders.back().name_units = head.name_length;
    }
  }

  // Of an index that isn't a folder's: blocks in clusters, or in 512 bytes where these are larger.
  void check_view(const AttributeView& a) {
    if (a.value.size() < sizeof(IndexRoot)) {
      error(Rule::ntfs_index_root, "the index's root is cut off");
      return;
    }
    const auto root = load<IndexRoot>(a.value);
    const std::uint64_t block = root.block_size.value();
    const std::uint64_t cluster = state_.volume.geometry().cluster_bytes();
    if (root.clusters_per_block * (block < cluster ? 512 : cluster) != block)
      warning(Rule::ntfs_index_root,
              fmt::format("the index {} has blocks of {} bytes in {} units",
                          printable(to_utf8(a.name)), block, root.clusters_per_block));
  }

  void check_sizes(const AttributeView& a) {
    const std::uint64_t cluster = state_.volume.geometry().cluster_bytes();
    const std::uint64_t in_runs = clusters_in(a.runs) * cluster;
    const bool holes = (a.flags & (attribute_sparse | attribute_compressed)) != 0;
    if (a.initialised > a.size || a.size > a.allocated || a.allocated != in_runs)
      error(Rule::ntfs_sizes,
            fmt::format("attribute {:X}: {} bytes written, {} in size, {} allocated, {} in runs",
                        a.type, a.initialised, a.size, a.allocated, in_runs));
    const bool bad_clusters = number_ == record_bad && a.name == u"$Bad";
    const bool any_hole =
        std::any_of(a.runs.begin(), a.runs.end(), [](const Run& r) { return r.lcn == Run::hole; });
    if (any_hole && !holes && !bad_clusters)
      error(Rule::ntfs_hole, fmt::format("attribute {:X} has holes but isn't sparse", a.type));
  }

  void check_flags(const AttributeView& a) {
    constexpr std::uint16_t known = attribute_sparse | attribute_encrypted | attribute_compressed;
    if ((a.flags & ~known) != 0)
      error(Rule::ntfs_attribute_flags,
            fmt::format("the contents have the unknown flags {:04X}", a.flags & ~known));
    if (a.resident) return;
    const bool packed = (a.flags & attribute_compressed) != 0;
    if (packed && (a.compression_unit == 0 || a.compression_unit > max_compression_unit))
      error(Rule::ntfs_attribute_flags,
            fmt::format("the contents are said to be compressed in units of 2^{} clusters, which "
                        "systems don't read",
                        a.compression_unit));
  }

  // Bits of the file against the attributes that it has.
  void check_bits(const std::vector<AttributeView>& all, std::uint32_t bits) {
    const bool reparse = find_attribute(all, at_reparse_point) != nullptr;
    const bool said = (bits & attr_reparse_point) != 0;
    if (said && !reparse)
      error(Rule::ntfs_reparse_bit, "the file is said to be a reparse point, and has none");
    if (reparse && !said)
      warning(Rule::ntfs_reparse_bit, "the file has a reparse point, and doesn't say so");
    const bool keys = find_attribute(all, at_logged_utility_stream, u"$EFS") != nullptr;
    for (const AttributeView& a : all) {
      if (a.type == at_data && (a.flags & attribute_encrypted) != 0 && !keys)
        error(Rule::ntfs_attribute_flags,
              "the contents are said to be encrypted, but no keys are kept");
    }
    const AttributeView* data = find_attribute(all, at_data);
    if (data == nullptr || number_ < first_user_record) return;
    const auto differs = [&](std::uint16_t flag, std::uint32_t bit) {
      return (data->flags & flag) != 0 && (bits & bit) == 0;
    };
    if (differs(attribute_sparse, attr_sparse_file) ||
        differs(attribute_compressed, attr_compressed_file) ||
        differs(attribute_encrypted, attr_encrypted_file))
      warning(Rule::ntfs_attribute_flags,
              "the contents are sparse, compressed or encrypted, and the file doesn't say so");
  }

  void check_information(const std::vector<AttributeView>& all) {
    const AttributeView* info = find_attribute(all, at_standard_information);
    if (info == nullptr || (info->value.size() != 48 && info->value.size() != 72)) {
      error(Rule::ntfs_standard_information,
            "the record has no STANDARD_INFORMATION of 48 or 72 bytes");
      return;
    }
    check_bits(all,
               load<be::little_uint32_buf_t>(info->value, offsetof(StandardInformation, attributes))
                   .value());
    if (info->value.size() == 72) {
      state_.security_ids.emplace_back(static_cast<std::uint32_t>(number_),
                                       load<StandardInformation>(info->value).security_id.value());
    } else if (find_attribute(all, at_security_descriptor) == nullptr) {
      warning(Rule::ntfs_security_id, "the record has neither a security id nor a descriptor");
    }
  }

  CheckState& state_;
  std::uint64_t number_;
  ByteView record_;
  FileRecord header_;
  Bytes cache_;
  std::uint64_t cached_ = ~std::uint64_t{0};
};

void check_mft_bitmap(CheckState& state) {
  const auto all = state.system_file(record_mft);
  const AttributeView* bits = find_attribute(all, at_bitmap);
  if (bits == nullptr) {
    state.error(Rule::ntfs_mft_bitmap, record_mft, "$MFT has no $BITMAP");
    return;
  }
  std::uint64_t number = 0;
  state.volume.stream_own(*bits, [&](ByteView bytes) {
    for (const std::uint8_t byte : bytes) {
      if (byte == 0 && state.records.find(number) == nullptr) {  // eight of one chunk
        number += 8;
        continue;
      }
      for (unsigned bit = 0; bit < 8; ++bit, ++number) {
        const bool set = (byte >> bit & 1) != 0;
        const CheckState::Record* r = state.records.find(number);
        const bool used = r != nullptr && r->in_use;
        if (set == used) continue;
        state.finding(Rule::ntfs_mft_bitmap, used ? Severity::error : Severity::warning, number,
                      used ? "the record is in use, but $MFT's bitmap says that it is free"
                           : "$MFT's bitmap says that the record is in use, but it isn't");
      }
    }
  });
  if (number < state.volume.records())
    state.error(
        Rule::ntfs_mft_bitmap, record_mft,
        fmt::format("$MFT's bitmap has {} bits for {} records", number, state.volume.records()));
}

}  // namespace

void check_records(CheckState& state) {
  state.volume.each_record([&](std::uint64_t number, ByteSpan record, RecordState how) {
    if (how == RecordState::torn) {
      state.error(Rule::ntfs_record_torn, number,
                  "the record was not written whole: its update sequence differs");
      return;
    }
    if (how == RecordState::unreadable) {
      state.error(Rule::ntfs_record_unreadable, number, "the device doesn't give the record");
      return;
    }
    if (how != RecordState::sound) {
      if (number < first_user_record && number < 12)
        state.error(Rule::ntfs_record_missing, number, "a record of the system is not a record");
      return;
    }
    const auto header = load<FileRecord>(record);
    CheckState::Record& facts = state.records[number];
    facts.in_use = (header.flags.value() & record_in_use) != 0;
    facts.directory = (header.flags.value() & record_directory) != 0;
    facts.extension = header.base.value() != 0;
    facts.sequence = header.sequence.value();
    if (!facts.in_use) return;
    if (facts.directory && !facts.extension) state.folders.push_back({number, number, 0});
    RecordCheck(state, number, record).run();
  });
  check_mft_bitmap(state);
}

}  // namespace nuvrat::ntfs
