#include "rewrite/journal_file.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <new>
#include <utility>

#include <fcntl.h>
#include <fmt/core.h>
#include <sys/stat.h>
#include <unistd.h>
#include <xxhash.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>

#include "base/descriptor.h"
#include "base/record.h"
#include "base/whole_file.h"
#include "device/io.h"

namespace nuvrat {
using namespace rewrite;
namespace {

constexpr std::uint64_t max_payload = 64u << 20;

std::uint64_t hash_of(RecordHeader header, ByteView payload) {
  header.hash = std::uint64_t{0};
  XXH3_state_t* state = XXH3_createState();
  if (state == nullptr) throw std::bad_alloc();
  XXH3_64bits_reset(state);
  XXH3_64bits_update(state, &header, sizeof header);
  XXH3_64bits_update(state, payload.data(), payload.size());
  const std::uint64_t hash = XXH3_64bits_digest(state);
  XXH3_freeState(state);
  return hash;
}

std::uint32_t crc_of(const JournalHeader& header) {
  return crc32(base::bytes_of(header).first(offsetof(JournalHeader, crc)));
}

}  // namespace

JournalFile::JournalFile(JournalFile&& other) noexcept
    : file_(std::exchange(other.file_, -1)),
      path_(std::move(other.path_)),
      end_(other.end_),
      number_(other.number_),
      previous_(other.previous_) {}

JournalFile::~JournalFile() {
  if (file_ >= 0) ::close(file_);
}

void JournalFile::fail(const char* what, int error) const {
  throw Error(ErrorCode::file, fmt::format("the undo journal {}: {}", what, std::strerror(error)),
              {.path = path_.string()},
              error == ENOSPC ? "Name a case folder on a disk with more room" : "");
}

JournalFile JournalFile::create(const std::filesystem::path& path, const JournalHeader& header) {
  // Under its name only with its header on the medium, so that a cut never leaves half of one.
  const std::string part = path.string() + ".part";
  JournalFile out(base::open_file(part, O_RDWR | O_CREAT | O_TRUNC | O_NOFOLLOW).release(), path);
  if (out.file_ < 0) out.fail("can't be made", errno);
  JournalHeader signed_header = header;
  signed_header.crc = crc_of(header);
  const device::Transfer done = device::try_write_at(out.file_, 0, base::bytes_of(signed_header));
  if (done.error != 0) out.fail("can't be written", done.error);
  out.end_ = sizeof header;
  out.flush();
  if (::access(path.c_str(), F_OK) == 0) out.fail("is there already", EEXIST);
  if (::rename(part.c_str(), path.c_str()) != 0) out.fail("can't be named", errno);
  base::sync_folder(path.parent_path());
  return out;
}

JournalFile JournalFile::open(const std::filesystem::path& path, JournalHeader& header,
                              const std::function<void(const RecordHeader&, std::uint64_t)>& each) {
  JournalFile out(base::open_file(path, O_RDWR | O_NOFOLLOW).release(), path);
  if (out.file_ < 0) out.fail("can't be opened", errno);
  Bytes first(sizeof(JournalHeader));
  if (const device::Transfer done = device::try_read_at(out.file_, 0, first); done.error != 0)
    out.fail("can't be read", done.error);
  header = base::load<JournalHeader>(first);
  if (header.magic != journal_magic || header.version.value() != 2 ||
      header.crc.value() != crc_of(header)) {
    throw Error(ErrorCode::file, "this is not an undo journal of version 2",
                {.path = path.string()});
  }
  out.end_ = sizeof(JournalHeader);
  struct stat info {};
  if (::fstat(out.file_, &info) != 0) out.fail("can't be read", errno);
  const auto size = static_cast<std::uint64_t>(info.st_size);
  while (out.end_ < size) {
    const std::uint64_t left = size - out.end_;
    RecordHeader record{};
    Bytes payload;
    bool whole = left >= sizeof record;
    if (whole) {
      record = base::load<RecordHeader>(out.read_exact(out.end_, sizeof record));
      whole = record.magic.value() == record_magic && record.payload.value() <= max_payload &&
              record.payload.value() <= left - sizeof record;
    }
    if (whole) {
      payload = out.read_exact(out.end_ + sizeof record, record.payload.value());
      whole = hash_of(record, payload) == record.hash.value();
    }
    if (!whole) {
      out.require_torn(out.end_, size);
      break;
    }
    if (record.number.value() != out.number_ || record.previous.value() != out.previous_)
      out.damaged(out.end_, "records are missing before this one");
    each(record, out.end_);
    ++out.number_;
    out.previous_ = record.hash.value();
    out.end_ += sizeof record + payload.size();
  }
  return out;
}

void JournalFile::damaged(std::uint64_t offset, const char* what) const {
  throw Error(
      ErrorCode::file, fmt::format("the undo journal is damaged at byte {}: {}", offset, what),
      {.path = path_.string()},
      "Nothing was changed. Take the case from a copy, if there is one, and look at the disk "
      "that holds it");
}

Bytes JournalFile::read_exact(std::uint64_t offset, std::uint64_t size) const {
  Bytes out(size);
  const device::Transfer done = device::try_read_at(file_, offset, out);
  if (done.error != 0) fail("can't be read", done.error);
  if (done.bytes != size) damaged(offset, "it is shorter than it was");
  return out;
}

// Only what was being appended can be torn: no milestone follows it, for those are written
// when everything before them is on the medium.
void JournalFile::require_torn(std::uint64_t offset, std::uint64_t size) const {
  constexpr std::uint64_t piece = 1u << 20;
  Bytes buffer;
  for (std::uint64_t at = offset + 1; at < size; at += piece) {
    buffer = read_exact(at, std::min(piece + 3, size - at));
    for (std::size_t i = 0; i + 4 <= buffer.size(); ++i) {
      if (base::load<boost::endian::little_uint32_buf_t>(buffer, i).value() != record_magic)
        continue;
      const std::uint64_t left = size - at - i;
      if (left < sizeof(RecordHeader)) break;
      const auto record = base::load<RecordHeader>(read_exact(at + i, sizeof(RecordHeader)));
      if (!is_milestone(record.kind) || record.payload.value() > left - sizeof record) continue;
      const Bytes payload = read_exact(at + i + sizeof record, record.payload.value());
      if (hash_of(record, payload) == record.hash.value())
        damaged(offset, "a record is not as it was written, and later ones are");
    }
  }
}

std::uint64_t JournalFile::append(RecordHeader header, ByteView payload) {
  header.magic = record_magic;
  header.number = number_;
  header.previous = previous_;
  header.payload = payload.size();
  header.hash = hash_of(header, payload);
  Bytes whole(sizeof header + payload.size());
  base::store(header, whole);
  std::copy(payload.begin(), payload.end(), whole.begin() + sizeof header);
  const device::Transfer done = device::try_write_at(file_, end_, whole);
  if (done.bytes != whole.size()) fail("can't be written", done.error);
  ++number_;
  previous_ = header.hash.value();
  return std::exchange(end_, end_ + whole.size());
}

void JournalFile::flush() {
  if (::ftruncate(file_, static_cast<off_t>(end_)) != 0 || ::fsync(file_) != 0)
    fail("can't be flushed", errno);
}

Bytes JournalFile::payload(std::uint64_t offset) const {
  Bytes head(sizeof(RecordHeader));
  if (const device::Transfer done = device::try_read_at(file_, offset, head); done.error != 0)
    fail("can't be read", done.error);
  const auto record = base::load<RecordHeader>(head);
  Bytes out(std::min(record.payload.value(), max_payload));
  const device::Transfer done = device::try_read_at(file_, offset + sizeof record, out);
  if (done.bytes != out.size() || hash_of(record, out) != record.hash.value()) {
    fail("can't be read back as it was written", done.error);
  }
  return out;
}

}  // namespace nuvrat
