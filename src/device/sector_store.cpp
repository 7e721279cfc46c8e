#include "device/sector_store.h"

#include <cstdlib>

#include <sys/statvfs.h>
#include <unistd.h>

#include "base/temporary_file.h"
#include "device/io.h"

namespace nuvrat::device {

SectorStore::SectorStore(std::uint32_t sector_size) : sector_size_(sector_size) {
  const char* folder = std::getenv("TMPDIR");
  file_ =
      base::temporary_file(folder == nullptr ? "/tmp" : folder, "Set TMPDIR to a folder with room");
  struct statvfs room {};
  if (::fstatvfs(file_.get(), &room) == 0)
    fair_bytes_ = std::uint64_t{room.f_bavail} * room.f_frsize / 4;
}

void SectorStore::read(std::uint64_t offset, ByteSpan out) const {
  read_at(file_.get(), offset, out);
}

void SectorStore::write(std::uint64_t lba, ByteView data) {
  const auto bytes_of = [&](SectorRange part) {
    return data.subspan((part.first - lba) * sector_size_, part.count * sector_size_);
  };
  std::vector<SectorRange> added;
  each_part(
      {lba, data.size() / sector_size_},
      [&](SectorRange part, std::uint64_t offset) {
        write_at(file_.get(), offset, bytes_of(part));
      },
      [&](SectorRange part) { added.push_back(part); });
  for (const SectorRange& part : added) append(part.first, bytes_of(part));
}

void SectorStore::append(std::uint64_t lba, ByteView data) {
  write_at(file_.get(), slots_ * sector_size_, data);
  const std::uint64_t count = data.size() / sector_size_;
  const std::uint64_t slot = slots_;
  slots_ += count;
  auto before = runs_.lower_bound(lba);
  if (before != runs_.begin()) {
    --before;
    const bool follows = before->first + before->second.count == lba &&
                         before->second.slot + before->second.count == slot;
    if (follows) {
      before->second.count += count;
      return;
    }
  }
  runs_[lba] = {count, slot};
}

void SectorStore::drop(SectorRange range) {
  auto it = runs_.upper_bound(range.first);
  if (it != runs_.begin()) --it;
  while (it != runs_.end() && it->first < range.end()) {
    const SectorRange had{it->first, it->second.count};
    const std::uint64_t slot = it->second.slot;
    if (had.end() <= range.first) {
      ++it;
      continue;
    }
    it = runs_.erase(it);
    if (had.first < range.first) runs_[had.first] = {range.first - had.first, slot};
    if (had.end() > range.end())
      runs_[range.end()] = {had.end() - range.end(), slot + range.end() - had.first};
  }
  // What lies in between is given back with the last of it.
  if (runs_.empty() && slots_ > 0 && ::ftruncate(file_.get(), 0) == 0) slots_ = 0;
}

SectorSet SectorStore::sectors() const {
  SectorSet out;
  for (const auto& [lba, run] : runs_) out.add({lba, run.count});
  return out;
}

std::uint64_t SectorStore::first_from(std::uint64_t lba, std::uint64_t otherwise) const {
  const auto it = runs_.upper_bound(lba);
  if (it != runs_.begin()) {
    const auto& [first, run] = *std::prev(it);
    if (first + run.count > lba) return lba;
  }
  return it == runs_.end() ? otherwise : it->first;
}

}  // namespace nuvrat::device
