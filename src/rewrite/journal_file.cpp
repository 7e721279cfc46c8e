#include "rewrite/journal_file.h"

#include <cerrno>
#include <cstring>
#include <utility>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>
#include <xxhash.h>

#include <nuvrat/checksum.h>
#include <nuvrat/error.h>

#include "base/record.h"
#include "device/io.h"

namespace nuvrat {
namespace {

constexpr std::uint64_t most_payload = 64u << 20;

std::uint64_t hash_of(RecordHeader header, ByteView payload) {
  header.hash = std::uint64_t{0};
  XXH3_state_t* state = XXH3_createState();
  XXH3_64bits_reset(state);
  XXH3_64bits_update(state, &header, sizeof header);
  XXH3_64bits_update(state, payload.data(), payload.size());
  const std::uint64_t hash = XXH3_64bits_digest(state);
  XXH3_freeState(state);
  return hash;
}

std::uint32_t crc_of(const JournalHeader& header) {
  return crc32(bytes_of(header).first(offsetof(JournalHeader, crc)));
}

}  // namespace

JournalFile::JournalFile(JournalFile&& other) noexcept
    : file_(std::exchange(other.file_, -1)), path_(std::move(other.path_)), end_(other.end_) {}

JournalFile::~JournalFile() {
  if (file_ >= 0) ::close(file_);
}

void JournalFile::fail(const char* what, int error) const {
  throw Error(ErrorCode::file, fmt::format("the undo journal {}: {}", what, std::strerror(error)),
              {{}, {}, {}, path_.string()},
              error == ENOSPC ? "Name a case folder on a disk with more room" : "");
}

JournalFile JournalFile::create(const std::filesystem::path& path, const JournalHeader& header) {
  // Under its name only with its header on the medium, so that a cut never leaves half of one.
  const std::string part = path.string() + ".part";
  JournalFile out(::open(part.c_str(), O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0644), path);
  if (out.file_ < 0) out.fail("can't be made", errno);
  JournalHeader signed_header = header;
  signed_header.crc = crc_of(header);
  const io::Moved moved = io::try_write_at(out.file_, 0, bytes_of(signed_header));
  if (moved.error != 0) out.fail("can't be written", moved.error);
  out.end_ = sizeof header;
  out.flush();
  if (::access(path.c_str(), F_OK) == 0) out.fail("is there already", EEXIST);
  if (::rename(part.c_str(), path.c_str()) != 0) out.fail("can't be named", errno);
  return out;
}

JournalFile JournalFile::open(const std::filesystem::path& path, JournalHeader& header,
                              const std::function<void(const RecordHeader&, std::uint64_t)>& each) {
  JournalFile out(::open(path.c_str(), O_RDWR | O_CLOEXEC), path);
  if (out.file_ < 0) out.fail("can't be opened", errno);
  Bytes first(sizeof(JournalHeader));
  io::try_read_at(out.file_, 0, first);
  header = load<JournalHeader>(first);
  if (header.magic != journal_magic || header.version.value() != 1 ||
      header.crc.value() != crc_of(header)) {
    throw Error(ErrorCode::file, "this is not an undo journal of version 1",
                {{}, {}, {}, path.string()});
  }
  out.end_ = sizeof(JournalHeader);
  Bytes buffer;
  while (true) {
    buffer.resize(sizeof(RecordHeader));
    if (io::try_read_at(out.file_, out.end_, buffer).bytes != buffer.size()) break;
    const auto record = load<RecordHeader>(buffer);
    if (record.magic.value() != record_magic || record.payload.value() > most_payload) break;
    buffer.resize(record.payload.value());
    if (io::try_read_at(out.file_, out.end_ + sizeof record, buffer).bytes != buffer.size()) break;
    if (hash_of(record, buffer) != record.hash.value()) break;
    each(record, out.end_);
    out.end_ += sizeof record + buffer.size();
  }
  return out;
}

std::uint64_t JournalFile::append(RecordHeader header, ByteView payload) {
  header.magic = record_magic;
  header.payload = payload.size();
  header.hash = hash_of(header, payload);
  Bytes whole(sizeof header + payload.size());
  store(header, whole);
  std::copy(payload.begin(), payload.end(), whole.begin() + sizeof header);
  const io::Moved moved = io::try_write_at(file_, end_, whole);
  if (moved.bytes != whole.size()) fail("can't be written", moved.error);
  return std::exchange(end_, end_ + whole.size());
}

void JournalFile::flush() {
  if (::ftruncate(file_, static_cast<off_t>(end_)) != 0 || ::fsync(file_) != 0)
    fail("can't be flushed", errno);
}

Bytes JournalFile::payload(std::uint64_t offset) const {
  Bytes head(sizeof(RecordHeader));
  io::try_read_at(file_, offset, head);
  const auto record = load<RecordHeader>(head);
  Bytes out(std::min(record.payload.value(), most_payload));
  const io::Moved moved = io::try_read_at(file_, offset + sizeof record, out);
  if (moved.bytes != out.size() || hash_of(record, out) != record.hash.value()) {
    fail("can't be read back as it was written", moved.error);
  }
  return out;
}

}  // namespace nuvrat
