#pragma once
// Finds a place for everything that an edit writes.

#include "ntfs/edit_parts.h"
#include "tree/free_runs.h"

namespace nuvrat::ntfs {

/// How an edit is tried: each way costs more than the one before.
struct EditWay {
  bool whole_mft = false;     ///< all of $MFT anew, rather than a mixture
  bool whole_bitmap = false;  ///< the same of $Bitmap
  bool list = false;          ///< $MFT may have an attribute list
};

/// One try.
class Layouter {
 public:
  /// Refers to `found`, whose layout isn't read. `room`: clusters that nobody owns.
  Layouter(const EditParts& found, tree::FreeRuns room);
  [[nodiscard]] std::variant<EditLayout, EditTrouble> lay_out(const EditWay& way);

 private:
  using MaybeTrouble = std::optional<EditTrouble>;

  MaybeTrouble attempt(const EditWay& way);
  [[nodiscard]] EditTrouble no_pieces() const;

  // What must be in one piece is placed while the pieces are large.
  MaybeTrouble place_mirror();
  MaybeTrouble place_start(bool whole);
  MaybeTrouble place_new_bitmap();
  void place_files();
  void move_contents();
  void move_runs(const Runs& from, const Runs& to);
  void place_mft(bool whole);
  void place_mft_bitmap(bool beginning);
  void place_bitmap(bool whole);
  void add_shadow(const Runs& runs, Shadow shadow, Shadows& to);
  void note_move(const ClusterMove& move);

  // Files that are put: edit_files.cpp.
  void shape_folder(std::uint64_t number, const Put& folder);
  void put_contents(const Put& put, const PutPlace& place,
                    std::vector<Attribute>& attributes) const;

  // Records: edit_records.cpp.
  template <typename Visit>
  void each_owner(Visit visit);
  MaybeTrouble make_room_in_records();
  MaybeTrouble rebuild(std::uint64_t base, FreeRecords free);
  struct Packing {
    PackedFile file;
    std::vector<std::uint64_t> references;  // of its extensions
    Runs list;                              // where its attribute list lies, if it needs one
  };
  std::variant<Packing, EditTrouble> pack_with_room(const RecordHead& head,
                                                    const std::vector<Attribute>& attributes,
                                                    FreeRecords free,
                                                    std::vector<std::uint64_t> references);
  void note_made(const Packing& packed, std::uint64_t base, std::size_t had);
  [[nodiscard]] Bytes unused_record(std::uint64_t reference) const;
  [[nodiscard]] bool all_fit() const;
  [[nodiscard]] Runs runs_after(std::uint64_t base, const Runs& runs) const;
  [[nodiscard]] std::vector<Attribute> moved_attributes(std::uint64_t base, ByteView record) const;
  void change_attributes(std::uint64_t base, std::vector<Attribute>& attributes) const;

  const EditVolume& v_;
  const SystemStreams& streams_;
  const PutRecords& puts_;
  const EditScan& scan_;
  tree::FreeRuns room_;
  EditLayout out_;
};

/// A FILE_NAME that says another size of the file's contents.
void set_size(Bytes& key, std::uint64_t size, std::uint64_t cluster_bytes);

}  // namespace nuvrat::ntfs
