#pragma once
// The undo journal as bytes: docs/formats/undo-journal.md.

#include <array>
#include <filesystem>
#include <functional>

#include <boost/endian/buffers.hpp>

#include <nuvrat/bytes.h>
#include <nuvrat/sectors.h>

namespace nuvrat::rewrite {

struct JournalHeader {
  std::array<char, 8> magic;
  boost::endian::little_uint32_buf_t version;
  boost::endian::little_uint32_buf_t sector_size;
  boost::endian::little_uint64_buf_t disk_sectors;
  boost::endian::little_uint32_buf_t undo;
  boost::endian::little_uint32_buf_t crc;  // of the 28 bytes before it
};
static_assert(sizeof(JournalHeader) == 32);

enum class RecordKind : std::uint8_t {
  undo = 1,
  version = 2,
  ready = 3,
  done = 4,
  reverting = 5,
  reverted = 6,
  purpose = 7,
  plan = 8,
  witness = 9,
  blob = 10
};
/// Written only when everything before it is on the medium.
[[nodiscard]] inline bool is_milestone(RecordKind kind) {
  return kind == RecordKind::ready || kind == RecordKind::done || kind == RecordKind::reverting ||
         kind == RecordKind::reverted || kind == RecordKind::plan;
}
enum class Kept : std::uint8_t { nothing = 0, zeros = 1, packed = 2 };

struct RecordHeader {
  boost::endian::little_uint32_buf_t magic;
  RecordKind kind;
  std::uint8_t phase;
  Kept kept;
  std::uint8_t neighbour;  // 1: shares a physical sector with what is written, and stays as it is
  boost::endian::little_uint32_buf_t step;
  boost::endian::little_uint32_buf_t count;  // sectors
  boost::endian::little_uint64_buf_t lba;
  boost::endian::little_uint64_buf_t number;    // of the record, from 0
  boost::endian::little_uint64_buf_t previous;  // the hash of the record before it
  boost::endian::little_uint64_buf_t payload;   // bytes that follow
  boost::endian::little_uint64_buf_t hash;      // XXH3-64 of header (this field zero) and payload
};
static_assert(sizeof(RecordHeader) == 56);

inline constexpr std::array<char, 8> journal_magic = {'N', 'V', 'U', 'N', 'D', 'O', '\n', '\0'};
inline constexpr std::uint32_t record_magic = 0x43455221;
inline constexpr std::uint32_t max_record_sectors = 2048;

/// Appends records to a file and reads them again.
class JournalFile {
 public:
  static JournalFile create(const std::filesystem::path& path, const JournalHeader& header);
  /// Calls `each` with every record. What a power cut tore off at the end, while it was being
  /// appended, is left out; anything else that isn't as it was written is an Error (file): a bad
  /// record that a milestone follows, records that are missing, a file that can't be read.
  static JournalFile open(
      const std::filesystem::path& path, JournalHeader& header,
      const std::function<void(const RecordHeader&, std::uint64_t offset)>& each);
  JournalFile(JournalFile&& other) noexcept;
  JournalFile& operator=(JournalFile&&) = delete;
  ~JournalFile();

  /// Returns the record's offset.
  std::uint64_t append(RecordHeader header, ByteView payload);
  void flush();
  [[nodiscard]] Bytes payload(std::uint64_t offset) const;

 private:
  JournalFile(int file, std::filesystem::path path) : file_(file), path_(std::move(path)) {}
  [[noreturn]] void fail(const char* what, int error) const;
  [[noreturn]] void damaged(std::uint64_t offset, const char* what) const;
  [[nodiscard]] Bytes read_exact(std::uint64_t offset, std::uint64_t size) const;
  void require_torn(std::uint64_t offset, std::uint64_t size) const;

  int file_;
  std::filesystem::path path_;
  std::uint64_t end_ = 0;
  std::uint64_t number_ = 0;    // of the next record
  std::uint64_t previous_ = 0;  // the hash of the last one
};

}  // namespace nuvrat::rewrite
