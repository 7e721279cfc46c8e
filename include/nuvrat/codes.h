#pragma once
// The codes by which findings, obstacles and consents are known: enumerators, each with its name,
// which is stable, and what the name stands for.

#include <cstddef>
#include <cstdint>
#include <optional>
#include <string_view>

#include <nuvrat/severity.h>
#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

/// Rules that must hold on a disk, each a Finding where it doesn't: by the structure that it is
/// about, and what is wrong with it.
enum class Rule : std::uint8_t {
  disk_disturbed,
  disk_managed,
  disk_raid_member,
  disk_sector_size,
  table_overlaps,
  table_settle_unfinished,
  table_type_mismatch,
  table_unreadable,
  mbr_entry_odd,
  mbr_gpt_remains,
  mbr_outside,
  mbr_over_table,
  mbr_overlap,
  mbr_two_active,
  mbr_two_extended,
  mbr_type_zero,
  ebr_container_outside,
  ebr_extra_entry,
  ebr_link_outside,
  ebr_loop,
  ebr_no_signature,
  ebr_on_itself,
  ebr_outside,
  ebr_partition_outside,
  ebr_too_many,
  ebr_two_partitions,
  ebr_unreadable,
  gpt_alternate,
  gpt_backup_damaged,
  gpt_backup_not_last,
  gpt_change_unfinished,
  gpt_copies_differ,
  gpt_cut_off,
  gpt_entry_empty,
  gpt_entry_outside,
  gpt_header_rest,
  gpt_hybrid,
  gpt_id_repeated,
  gpt_none_valid,
  gpt_outside,
  gpt_overlap,
  gpt_primary_damaged,
  gpt_protective_entry,
  gpt_protective_missing,
  volume_boot_damaged,
  volume_boot_lost,
  volume_damaged,
  volume_hidden_sectors,
  volume_raid_member,
  volume_shorter,
  volume_unreadable,
  fat_attributes,
  fat_behind_end,
  fat_boot_copy,
  fat_boot_fields,
  fat_chain,
  fat_chain_bad,
  fat_chain_free,
  fat_chain_long,
  fat_chain_loop,
  fat_chain_outside,
  fat_chain_shared,
  fat_chain_short,
  fat_cluster_count,
  fat_copies_differ,
  fat_dots,
  fat_folder_cluster,
  fat_folder_size,
  fat_folder_too_long,
  fat_folder_twice,
  fat_folder_unreadable,
  fat_folders_astray,
  fat_fs_info,
  fat_label,
  fat_long_name_broken,
  fat_long_name_form,
  fat_long_name_orphan,
  fat_media,
  fat_name_illegal,
  fat_name_odd,
  fat_name_twice,
  fat_not_clean,
  fat_one_copy,
  fat_path_too_long,
  fat_root_lost,
  fat_time,
  fat_unowned,
  fat_unreadable,
  ntfs_attr_def,
  ntfs_attribute_end,
  ntfs_attribute_flags,
  ntfs_attribute_form,
  ntfs_attribute_id,
  ntfs_attribute_indexed,
  ntfs_attribute_list,
  ntfs_attribute_order,
  ntfs_attribute_type,
  ntfs_bad_clusters,
  ntfs_bitmap_lost,
  ntfs_bitmap_missing,
  ntfs_bitmap_size,
  ntfs_bitmap_tail,
  ntfs_boot_copy,
  ntfs_boot_fields,
  ntfs_boot_file,
  ntfs_cluster_shared,
  ntfs_directory_flag,
  ntfs_encrypted,
  ntfs_extension,
  ntfs_first_records,
  ntfs_folder_twice,
  ntfs_hole,
  ntfs_index,
  ntfs_index_bitmap,
  ntfs_index_block,
  ntfs_index_entry,
  ntfs_index_header,
  ntfs_index_order,
  ntfs_index_parent,
  ntfs_index_root,
  ntfs_index_torn,
  ntfs_link_count,
  ntfs_log,
  ntfs_mft_bitmap,
  ntfs_mft_extension,
  ntfs_mft_split,
  ntfs_mft_start,
  ntfs_mirror,
  ntfs_name_copy,
  ntfs_name_dangling,
  ntfs_name_form,
  ntfs_name_illegal,
  ntfs_name_twice,
  ntfs_name_unknown,
  ntfs_name_unlisted,
  ntfs_nameless,
  ntfs_not_clean,
  ntfs_path_too_long,
  ntfs_record,
  ntfs_record_missing,
  ntfs_record_number,
  ntfs_record_size,
  ntfs_record_torn,
  ntfs_record_unreadable,
  ntfs_reparse_bit,
  ntfs_runlist,
  ntfs_runlist_form,
  ntfs_runlist_length,
  ntfs_security_id,
  ntfs_security_index,
  ntfs_security_stream,
  ntfs_sequence_system,
  ntfs_sequence_zero,
  ntfs_short_names,
  ntfs_sizes,
  ntfs_standard_information,
  ntfs_system_list,
  ntfs_unreachable,
  ntfs_unreadable,
  ntfs_upcase,
  ntfs_volume_record,
};

/// The mend that `check --repair` has for a finding; the finding says whether it works on a disk.
enum class Mending {
  none,     ///< a person decides, or the system that owns the volume
  repair,   ///< it is mended with nothing lost
  as_told,  ///< clusters that nobody has are kept or freed, as told
  resume,   ///< a rewrite is finished: `resume DISK`
};

struct RuleRow {
  Rule code;
  const char* name;     ///< "fat.unowned"
  Severity gravest;     ///< a finding may be less grave
  Mending mending;      ///< where it can be mended
  const char* meaning;  ///< the rule, as a sentence without a full stop
};

/// Why goals can't be reached.
enum class ObstacleCode : std::uint8_t {
  front_room,
  back_room,
  ebr_in_the_way,
  too_many,
  disk_too_small,
  gpt_already,
  already,
  no_table,
  past_32_bits,
  no_arrangement,
  active_logical,
  no_room_aside,
  managed,
  raid_member,
  asleep,
  damaged,
  not_fat,
  not_readable,
  efi_system,
  volume_room,
  room_in_pieces,
  name_reserved,
  file_size,
  encrypted,
  reparse,
  name,
  folder_entries,
  cluster_count,
  front_in_use,
  size_room,
  size_zero,
  size_contents,
  label_contents,
  front_space,
  gap_room,
  no_gap,
  volume_size,
  old_volume,
  label,
  root_full,
  dropped,
  boots_from,
  no_system,
  boot_table,
  boot_piece,
  boot_code,
  boot_way,
  boot_sectors,
  boot_file,
  esp_room,
  esp_there,
  hive,
  letter_taken,
  mend_too_large,
  keep_unowned,
};

struct ObstacleRow {
  ObstacleCode code;
  const char* name;     ///< "asleep"
  const char* meaning;  ///< as a sentence without a full stop
  const char* lifted;   ///< by what; empty: by nothing
};

/// Losses and duties of the owner, who must agree to them.
enum class ConsentCode : std::uint8_t {
  gone,
  streams,
  names,
  short_names,
  long_names,
  links,
  times,
  time_steps,
  permissions,
  restore_points,
  size,
  label,
  surplus,
  unowned,
  dropped,
  gpt_only,
  loader_code,
  data_at_end,
  gap_data,
  slack_data,
  start,
  firmware,
  firmware_entries,
  boot_32,
  boot_code,
  system,
  readers,
  limits,
  active,
  letters_left,
  front_letters,
  store_left,
  store_first,
  store_odd,
  recovery_settings,
  renumbered,
  old_volume,
  type,
  type_carried,
  front,
  shorter,
  room,
  geometry,
  clusters,
  moved,
  made_way,
  by_way_of_ntfs,
  boot_files,
  boot_sector,
  start_code,
  store,
  store_new,
  store_others,
  letters,
  everyone,
};

/// The gravest first.
enum class ConsentRank {
  deleted,  ///< partitions
  lost,     ///< of files and of what is kept beside them
  use,      ///< what the owner does with the disk: booting, letters, other machines
  details,
};

[[nodiscard]] const char* name_of(ConsentRank rank);

struct ConsentRow {
  ConsentCode code;
  ConsentRank rank;
  const char* name;     ///< "gone"
  const char* meaning;  ///< as a sentence without a full stop
};

[[nodiscard]] const RuleRow& row_of(Rule code);
[[nodiscard]] const ObstacleRow& row_of(ObstacleCode code);
[[nodiscard]] const ConsentRow& row_of(ConsentCode code);

template <typename Code>
[[nodiscard]] const char* name_of(Code code) requires requires {
  row_of(code).name;
}
{ return row_of(code).name; }

/// The code of that name; none where there is none.
[[nodiscard]] std::optional<Rule> rule_named(std::string_view name);
[[nodiscard]] std::optional<ObstacleCode> obstacle_named(std::string_view name);
[[nodiscard]] std::optional<ConsentCode> consent_named(std::string_view name);

}  // namespace nuvrat
