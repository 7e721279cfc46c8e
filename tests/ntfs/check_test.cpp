// NTFS: a damaged volume for each rule, and contents of the rarer kinds.

#include <fmt/core.h>

#include "broken_rules.h"
#include "ntfs_bytes.h"
#include "table_goals.h"

using namespace nuvrat;
using support::little;
using support::NtfsBytes;
using support::put;
using support::utc;
using volumes::noise;

namespace {

// Of the contents of A.BIN, and of the file.
void set_flags(const NtfsBytes& v, std::uint64_t flags, std::uint64_t bits) {
  const std::uint64_t n = v.record_of(u"A.BIN");
  v.change(n, v.attribute(n, 0x80) + 12, flags, 2);
  v.change(n, v.attribute(n, 0x10) + 24 + 32, 0x20 | bits, 4);
}

// A resident attribute list, of nothing but the record itself.
void add_list(const NtfsBytes& v, std::uint64_t number) {
  Bytes attribute(24 + 32);
  put(attribute, 0, 0x20, 4);
  put(attribute, 4, attribute.size(), 4);
  put(attribute, 10, 24, 2);
  put(attribute, 14, 20, 2);
  put(attribute, 16, 32, 4);
  put(attribute, 20, 24, 2);
  put(attribute, 24, 0x10, 4);
  put(attribute, 28, 32, 2);
  put(attribute, 31, 26, 1);
  put(attribute, 40, number | number << 48, 8);
  v.replace(number, v.attribute(number, 0x30), 0, attribute);
  put_next_id(v, number);
}

enum class PageState { closed, open, torn };

struct RestartPage {
  std::uint64_t lsn;
  PageState state;
};

void set_restart_page(const NtfsBytes& v, std::uint64_t number, const RestartPage& page) {
  Bytes b(4096);
  put(b, 0, 0x52545352, 4);
  put(b, 4, 0x1E, 2);
  put(b, 6, 9, 2);
  put(b, 0x10, 4096, 4);
  put(b, 0x14, 4096, 4);
  put(b, 0x18, 0x30, 2);
  put(b, 0x1A, 1, 2);
  put(b, 0x1C, 1, 2);
  put(b, 0x1E, 7, 2);
  put(b, 0x30, page.lsn, 8);
  put(b, 0x38, 1, 2);
  put(b, 0x3A, 0xFFFF, 2);
  put(b, 0x3C, page.state == PageState::open ? 0 : 0xFFFF, 2);
  NtfsBytes::protect(b, 0x1E);
  if (page.state == PageState::torn) put(b, 3 * 512 - 2, 9, 2);
  v.disk->write(v.sector_of(2, 0x80) + number * 8, b);
}

}  // namespace

TEST_CASE("check: of the log's restart pages the newer whole one counts, and a torn one is said") {
  struct Case {
    RestartPage first, second;
    std::optional<Rule> code;  // of what is said
  };
  const Case cases[] = {
      {{100, PageState::closed}, {90, PageState::open}, {}},
      {{90, PageState::open}, {100, PageState::closed}, {}},
      {{100, PageState::open}, {90, PageState::closed}, Rule::ntfs_not_clean},
      {{100, PageState::closed}, {100, PageState::open}, Rule::ntfs_not_clean},
      {{100, PageState::open}, {100, PageState::closed}, Rule::ntfs_not_clean},
      {{100, PageState::torn}, {90, PageState::closed}, Rule::ntfs_log},
      {{100, PageState::closed}, {90, PageState::torn}, Rule::ntfs_log},
      {{100, PageState::torn}, {90, PageState::torn}, Rule::ntfs_log},
  };
  const NtfsBytes v;
  for (const Case& c : cases) {
    set_restart_page(v, 0, c.first);
    set_restart_page(v, 1, c.second);
    const Findings findings = check_volume(*v.disk, utc());
    std::string said;
    for (const Finding& f : findings) said += std::string(name_of(f.code)) + " ";
    const std::optional<Rule> wanted = c.code;
    for (const Rule code : {Rule::ntfs_not_clean, Rule::ntfs_log}) {
      const bool expected = wanted == code;
      CHECK_MESSAGE((find_code(findings, code) != nullptr) >= expected, said);
      if (!wanted) CHECK_MESSAGE(find_code(findings, code) == nullptr, said);
    }
    // What isn't closed is refused; what is, is not.
    CHECK_MESSAGE(direction::assessed(*v.disk, {"volume=fat32"}).in_reach() == !wanted, said);
  }
}

TEST_CASE("check: every rule of NTFS is named when it is broken") {
  const std::vector<support::Damage<NtfsBytes>> cases = {
      {Rule::ntfs_boot_fields,
       [](NtfsBytes& v) {
         v.disk->write(0, [&] {
           Bytes b = v.disk->read(0);
           b[21] = 0xF0;
           return b;
         }());
       }},
      {Rule::ntfs_boot_copy, [](NtfsBytes& v) { v.disk->write(119999, Bytes(512)); }},
      {Rule::ntfs_record_torn,
       [](NtfsBytes& v) {
         Bytes b = v.disk->read(v.mft + 2 * 64 + 1);
         b[510] ^= 0xFF;
         v.disk->write(v.mft + 2 * 64 + 1, b);
       }},
      {Rule::ntfs_record_missing, [](NtfsBytes& v) { v.change(8, 0, 'X', 1); }},
      {Rule::ntfs_record,
       [](NtfsBytes& v) {  // the list leads to a record that continues another file
         const std::uint64_t n = v.record_of(u"PIECES.BIN");
         const std::uint64_t lba = v.sector_of(n, 0x20);
         Bytes list = v.disk->read(lba);
         for (std::size_t at = 0; little(list, at + 4, 2) != 0; at += little(list, at + 4, 2)) {
           if (little(list, at + 16, 6) != n) put(list, at + 16, 5, 6);
         }
         v.disk->write(lba, list);
       }},
      {Rule::ntfs_nameless,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x30), 0x40, 4);
       }},
      {Rule::ntfs_unreachable,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"D");
         v.change(n, v.attribute(n, 0x30) + 24, n | 1ull << 48, 8);
       }},
      {Rule::ntfs_bitmap_size, [](NtfsBytes& v) { v.change(6, v.attribute(6, 0x80) + 48, 9, 8); }},
      {Rule::ntfs_record_size, [](NtfsBytes& v) { v.change(65, 28, 2048, 4); }},
      {Rule::ntfs_record_number, [](NtfsBytes& v) { v.change(65, 44, 7, 4); }},
      {Rule::ntfs_sequence_zero, [](NtfsBytes& v) { v.change(65, 16, 0, 2); }},
      {Rule::ntfs_sequence_system, [](NtfsBytes& v) { v.change(4, 16, 9, 2); }},
      {Rule::ntfs_attribute_end, [](NtfsBytes& v) { v.change(65, 24, 40, 4); }},
      {Rule::ntfs_attribute_form,
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 4, 0x1000, 4); }},
      {Rule::ntfs_attribute_order,
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x10), 0xC0, 4); }},
      {Rule::ntfs_attribute_type,
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x10), 0x08, 4); }},
      {Rule::ntfs_attribute_id,
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 14, 0, 2); }},
      {Rule::ntfs_attribute_indexed,
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 22, 0, 1); }},
      {Rule::ntfs_runlist,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x80) + 64, 0xFF, 1);
       }},
      {Rule::ntfs_runlist_length,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x80) + 24, 99, 8);
       }},
      {Rule::ntfs_runlist_form,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         const std::size_t at = v.attribute(n, 0x80) + 64;
         const std::uint64_t lcn = v.sector_of(n, 0x80) / v.spc;
         v.change(n, at, 0x32, 1);  // the length in two bytes where one would do
         v.change(n, at + 1, 5, 2);
         v.change(n, at + 3, lcn, 3);
         v.change(n, at + 6, 0, 1);
       }},
      {Rule::ntfs_short_names,
       [](NtfsBytes& v) {  // the long one becomes a further name, as of a hard link
         const std::uint64_t n = v.record_of(u"a long name for one file.text");
         for (int which = 0; which < 2; ++which) {
           const std::size_t space = v.attribute(n, 0x30, which) + 24 + 65;
           if (v.record(n)[space] == 1) v.change(n, space, 0, 1);
         }
       }},
      {Rule::ntfs_link_count, [](NtfsBytes& v) { v.change(65, 18, 7, 2); }},
      {Rule::ntfs_sizes,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x80) + 48, 99999, 8);
       }},
      {Rule::ntfs_hole,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         v.change(n, v.attribute(n, 0x80) + 64, 0x000501, 3);
       }},
      {Rule::ntfs_standard_information,
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x10) + 16, 60, 4); }},
      {Rule::ntfs_security_id,
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x10) + 24 + 52, 0x999, 4); }},
      {Rule::ntfs_name_form,
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 24 + 65, 9, 1); }},
      {Rule::ntfs_name_unlisted,
       [](NtfsBytes& v) { v.change(65, v.attribute(65, 0x30) + 24 + 66, u'Z', 2); }},
      {Rule::ntfs_name_unlisted,
       [](NtfsBytes& v) {  // the root folder's index ends with its first entry
         const std::size_t root = v.attribute(5, 0x90);
         const std::size_t entry = root + little(v.record(5), root + 20, 2) + 32;
         v.change(5, entry + 12, 2, 1);
       }},
      {Rule::ntfs_name_copy,
       [](NtfsBytes& v) {  // neither the file's own name nor its contents say this
         v.change_block([](Bytes& b) { put(b, 0x40 + 16 + 48, 12345, 8); });
       }},
      {Rule::ntfs_name_form,
       [](NtfsBytes& v) {
         v.change_block([](Bytes& b) { put(b, 0x40 + 16 + 56, 0x10000000, 4); });
       }},
      {Rule::ntfs_attribute_flags, [](NtfsBytes& v) { set_flags(v, 0x0001, 0); }},
      {Rule::ntfs_attribute_flags, [](NtfsBytes& v) { set_flags(v, 0x0001, 0x800); }},
      {Rule::ntfs_attribute_flags, [](NtfsBytes& v) { set_flags(v, 0x8000, 0); }},
      {Rule::ntfs_attribute_flags, [](NtfsBytes& v) { set_flags(v, 0x8000, 0x200); }},
      {Rule::ntfs_attribute_flags, [](NtfsBytes& v) { set_flags(v, 0x4000, 0x4000); }},
      {Rule::ntfs_attribute_flags, [](NtfsBytes& v) { set_flags(v, 0x0400, 0); }},
      {Rule::ntfs_reparse_bit, [](NtfsBytes& v) { set_flags(v, 0, 0x400); }},
      {Rule::ntfs_directory_flag, [](NtfsBytes& v) { v.change(v.record_of(u"A.BIN"), 22, 3, 2); }},
      {Rule::ntfs_attribute_list,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"PIECES.BIN");
         const std::uint64_t lba = v.sector_of(n, 0x20);
         Bytes list = v.disk->read(lba);
         list[24] ^= 0x3F;
         v.disk->write(lba, list);
       }},
      {Rule::ntfs_extension,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"PIECES.BIN");
         v.change(n, 16, 77, 2);
       }},
      {Rule::ntfs_mft_bitmap, [](NtfsBytes& v) { v.change(65, 22, 0, 2); }},
      {Rule::ntfs_mirror,
       [](NtfsBytes& v) {
         Bytes b = v.disk->read(v.mirror + 2);
         b[100] ^= 1;
         v.disk->write(v.mirror + 2, b);
       }},
      {Rule::ntfs_mirror,
       [](NtfsBytes& v) {  // eight clusters, as two runs of four
         const std::size_t at = v.attribute(1, 0x80) + 64;
         v.change(1, at, 0x31, 1);
         v.change(1, at + 1, 4, 1);
         v.change(1, at + 2, v.mirror, 3);
         v.change(1, at + 5, 0x000431, 3);
         v.change(1, at + 8, 0, 8);
       }},
      {Rule::ntfs_mft_start, [](NtfsBytes& v) { v.split_mft(6); }},
      {Rule::ntfs_mft_start, [](NtfsBytes& v) { v.split_mft(20); }},
      {Rule::ntfs_mft_split, [](NtfsBytes& v) { v.split_mft(41); }},
      {Rule::ntfs_mft_extension,
       [](NtfsBytes& v) {  // a list that leads to a record behind what is known of $MFT
         const std::uint64_t list = v.disk->sectors() - 40;
         Bytes entries(96);
         for (std::size_t i = 0; i < 3; ++i) {
           put(entries, i * 32, i == 0 ? 0x10 : 0x80, 4);
           put(entries, i * 32 + 4, 32, 2);
           put(entries, i * 32 + 7, 26, 1);
           put(entries, i * 32 + 8, i == 2 ? 50 : 0, 8);
           put(entries, i * 32 + 16, (i == 2 ? 64 : 0) | 1ull << 48, 8);
         }
         entries.resize(512);
         v.disk->write(list, entries);
         Bytes attribute(72);
         put(attribute, 0, 0x20, 4);
         put(attribute, 4, 72, 4);
         put(attribute, 8, 1, 1);
         put(attribute, 10, 64, 2);
         put(attribute, 14, 20, 2);
         put(attribute, 32, 64, 2);
         put(attribute, 40, 512, 8);
         put(attribute, 48, 96, 8);
         put(attribute, 56, 96, 8);
         put(attribute, 64, 0x31, 1);
         put(attribute, 65, 1, 1);
         put(attribute, 66, list, 3);
         v.replace(0, v.attribute(0, 0x30), 0, attribute);
         put_next_id(v, 0);
       }},
      {Rule::ntfs_system_list, [](NtfsBytes& v) { add_list(v, 2); }},
      {Rule::ntfs_system_list, [](NtfsBytes& v) { add_list(v, 6); }},
      {Rule::ntfs_system_list, [](NtfsBytes& v) { add_list(v, 10); }},
      {Rule::ntfs_volume_record,
       [](NtfsBytes& v) { v.change(3, v.attribute(3, 0x70) + 24 + 8, 2, 1); }},
      {Rule::ntfs_not_clean,
       [](NtfsBytes& v) { v.change(3, v.attribute(3, 0x70) + 24 + 10, 1, 1); }},
      {Rule::ntfs_log, [](NtfsBytes& v) { v.disk->write(v.sector_of(2, 0x80), Bytes(512)); }},
      {Rule::ntfs_attr_def, [](NtfsBytes& v) { v.disk->write(v.sector_of(4, 0x80), Bytes(512)); }},
      {Rule::ntfs_upcase,
       [](NtfsBytes& v) {
         Bytes b = v.disk->read(v.sector_of(10, 0x80) + 1);
         put(b, (0x131 - 0x100) * 2, u'I', 2);
         v.disk->write(v.sector_of(10, 0x80) + 1, b);
       }},
      {Rule::ntfs_boot_file, [](NtfsBytes& v) { v.change(7, v.attribute(7, 0x80) + 48, 4096, 8); }},
      {Rule::ntfs_bad_clusters,
       [](NtfsBytes& v) { v.change(8, v.attribute(8, 0x80, 1) + 48, 4096, 8); }},
      {Rule::ntfs_security_stream,
       [](NtfsBytes& v) {
         Bytes b = v.disk->read(v.sector_of(9, 0x80));
         b[60] ^= 1;
         v.disk->write(v.sector_of(9, 0x80), b);
       }},
      {Rule::ntfs_security_index,
       [](NtfsBytes& v) { v.change(9, v.attribute(9, 0x90, 1) + 32 + 32 + 28, 0x7777, 4); }},
      {Rule::ntfs_bitmap_missing,
       [](NtfsBytes& v) {
         const std::uint64_t lcn = v.sector_of(v.record_of(u"A.BIN"), 0x80) / v.spc;
         const std::uint64_t lba = v.sector_of(6, 0x80) + lcn / 4096;
         Bytes b = v.disk->read(lba);
         b[lcn / 8 % 512] = 0;
         v.disk->write(lba, b);
       }},
      {Rule::ntfs_bitmap_lost,
       [](NtfsBytes& v) {
         const std::uint64_t lba = v.sector_of(6, 0x80) + 26;
         Bytes b = v.disk->read(lba);
         b[9] = 0xFF;
         v.disk->write(lba, b);
       }},
      {Rule::ntfs_bitmap_tail,
       [](NtfsBytes& v) {
         const std::uint64_t last = little(v.disk->read(0), 0x28, 8) / v.spc;  // clusters
         const std::uint64_t lba = v.sector_of(6, 0x80) + last / 4096;
         Bytes b = v.disk->read(lba);
         b[last / 8 % 512] = 0;
         v.disk->write(lba, b);
       }},
      {Rule::ntfs_cluster_shared,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"A.BIN");
         const std::size_t at = v.attribute(n, 0x80) + 64;
         v.change(n, at, 0x31, 1);
         v.change(n, at + 1, 5, 1);
         v.change(n, at + 2,
                  v.sector_of(v.record_of(u"a long name for one file.text"), 0x80) / v.spc, 3);
         v.change(n, at + 5, 0, 1);
       }},
      {Rule::ntfs_index_root,
       [](NtfsBytes& v) { v.change(5, v.attribute(5, 0x90) + 32 + 4, 0x10, 4); }},
      {Rule::ntfs_index_root,
       [](NtfsBytes& v) { v.change(9, v.attribute(9, 0x90) + 32 + 12, 3, 1); }},
      {Rule::ntfs_index_header,
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x1C, 9000, 4); }); }},
      {Rule::ntfs_index_entry,
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40 + 8, 4, 2); }); }},
      {Rule::ntfs_index_block,
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 16, 777, 8); }); }},
      {Rule::ntfs_index_torn,
       [](NtfsBytes& v) {
         const std::uint64_t lba = v.sector_of(v.record_of(u"D"), 0xA0) + 3;
         Bytes b = v.disk->read(lba);
         b[511] ^= 0x55;
         v.disk->write(lba, b);
       }},
      {Rule::ntfs_index_order,
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40 + 16 + 66, u'Z', 2); }); }},
      {Rule::ntfs_index_parent,
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40 + 16, 5, 6); }); }},
      {Rule::ntfs_name_dangling,
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40, 390, 6); }); }},
      {Rule::ntfs_name_unknown,
       [](NtfsBytes& v) {
         v.change_block([](Bytes& b) {
           put(b, 0x40 + 16 + 65, 1, 1);
           put(b, 0x40, 65, 6);
         });
       }},
      {Rule::ntfs_name_illegal,
       [](NtfsBytes& v) { v.change_block([](Bytes& b) { put(b, 0x40 + 16 + 66, u'/', 2); }); }},
      {Rule::ntfs_name_twice,
       [](NtfsBytes& v) {
         v.change_block([](Bytes& b) {  // the second entry gets the first one's name
           const std::size_t second = 0x40 + little(b, 0x48, 2);
           const std::size_t bytes = 66 + 2u * b[0x40 + 16 + 64];
           for (std::size_t i = 0; i < bytes && 16 + i < little(b, second + 8, 2); ++i)
             b[second + 16 + i] = b[0x50 + i];
         });
       }},
      {Rule::ntfs_index_bitmap,
       [](NtfsBytes& v) {
         const std::uint64_t n = v.record_of(u"D");
         v.change(n, v.attribute(n, 0xB0) + 32, 0xFFFFFFFE, 8);
       }},
  };
  support::every_case_is_named<NtfsBytes>(cases);
}

TEST_CASE("check: NTFS folders too deep to be named are named by their records") {
  // 260 folders, each put into the one before it: their names are long enough for the limit.
  constexpr unsigned folders = 260;
  NtfsBytes v([](FatWriter& w) {
    for (unsigned i = 0; i < folders; ++i) w.add_directory(fmt::format("{:0>150}", i));
  });
  for (std::uint64_t number = 65; number < 64 + folders; ++number) {
    for (int which = 0; which < 2; ++which) {
      const std::size_t at = v.attribute(number, 0x30, which);
      v.change(number, at + 24, (number - 1) | std::uint64_t{1} << 48, 8);
    }
  }
  const Findings findings = check_volume(*v.disk, utc());
  const Finding* deep = find_code(findings, Rule::ntfs_path_too_long);
  REQUIRE(deep != nullptr);
  CHECK(*deep->place.record == 64 + 32767 / 151);  // 151 units a folder, from the first on
  CHECK(find_code(findings, Rule::ntfs_unreachable) == nullptr);
}

TEST_CASE("read: compressed units, holes, named streams and encrypted files") {
  NtfsBytes volume;
  const auto wanted = support::make_rare_contents(volume);
  QuietProgress quiet;
  const Manifest manifest = take_manifest(*volume.disk, utc(), quiet);
  const ManifestVolume& v = manifest.volumes.at(0);
  std::size_t seen = 0;
  for (FileTree::Id id = 1; id < v.tree.size(); ++id) {
    const auto it = wanted.find(v.tree.path(id));
    if (it == wanted.end()) continue;
    ++seen;
    CAPTURE(it->first);
    CHECK(v.tree.bytes(id) == it->second.size());
    CHECK(v.digests[id] == Sha256::of(it->second));
  }
  CHECK(seen == wanted.size());
  CHECK(v.unreadable.empty());
  const std::uint64_t n = volume.record_of(u"PIECES.BIN");
  volume.change(n, volume.attribute(n, 0x10) + 24 + 32, 0x4020, 4);
  const auto reader = open_volume(*volume.disk, utc());
  (void)reader->tree();
  CHECK(find_code(reader->findings(), Rule::ntfs_encrypted) != nullptr);
  // A packed unit that makes no sense is damage, not contents.
  const std::uint64_t lba = volume.sector_of(volume.record_of(u"UNITS.BIN"), 0x80);
  Bytes torn = volume.disk->read(lba);
  torn[2] = 0xFF;
  torn[3] = 0xFF;
  volume.disk->write(lba, torn);
  const Manifest damaged = take_manifest(*volume.disk, utc(), quiet);
  CHECK(damaged.unreadable_files() == 1);
}
