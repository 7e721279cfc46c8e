#pragma once
// The undo journal as bytes: docs/formats/undo-journal.md.

#include <array>
#include <filesystem>
#include <functional>

#include <boost/endian/buffers.hpp>

#include <nuvrat/bytes.h>
#include <nuvrat/sectors.h>

namespace nuvrat {

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
  purpose = 7
};
enum class Kept : std::uint8_t { nothing = 0, zeros = 1, packed = 2 };

struct RecordHeader {
  boost::endian::little_uint32_buf_t magic;
  RecordKind kind;
  std::uint8_t phase;
  Kept kept;
  std::uint8_t pad;
  boost::endian::little_uint32_buf_t step;
  boost::endian::little_uint32_buf_t count;  // sectors
  boost::endian::little_uint64_buf_t lba;
  boost::endian::little_uint64_buf_t payload;  // bytes that follow
  boost::endian::little_uint64_buf_t hash;     // XXH3-64 of header (this field zero) and payload
};
static_assert(sizeof(RecordHeader) == 40);

inline constexpr std::array<char, 8> journal_magic = {'N', 'V', 'U', 'N', 'D', 'O', '\n', '\0'};
inline constexpr std::uint32_t record_magic = 0x43455221;
inline constexpr std::uint32_t most_record_sectors = 2048;

/// Appends records to a file and reads them again.
class JournalFile {
 public:
  static JournalFile create(const std::filesystem::path& path, const JournalHeader& header);
  /// Calls `each` with every whole record; what follows the last whole one is cut off.
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

  int file_;
  std::filesystem::path path_;
  std::uint64_t end_ = 0;
};

}  // namespace nuvrat
