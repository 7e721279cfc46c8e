#include "ntfs/build.h"

#include <algorithm>
#include <future>
#include <optional>

#include <nuvrat/error.h>

#include "base/ahead.h"
#include "base/record.h"
#include "base/start_code.h"

namespace nuvrat::ntfs {
namespace {

// Appends bytes to a file that lies in runs; whole pieces go out as they fill.
class RunWriter {
 public:
  RunWriter(const Plan& plan, const Runs& runs, const SectorWriter& write)
      : cluster_bytes_(plan.cluster_bytes()),
        cluster_sectors_(plan.format().cluster_sectors),
        runs_(runs),
        write_(write) {
    buffer_.reserve(piece + cluster_bytes_);
  }

  void add(ByteView bytes) {
    while (!bytes.empty()) {
      const std::size_t n = std::min<std::size_t>(bytes.size(), piece - buffer_.size());
      buffer_.insert(buffer_.end(), bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(n));
      bytes = bytes.subspan(n);
      if (buffer_.size() == piece) flush();
    }
  }

  /// The rest of the last cluster is zero.
  void finish() {
    buffer_.resize(div_up<std::uint64_t>(buffer_.size(), cluster_bytes_) * cluster_bytes_);
    flush();
  }

 private:
  static constexpr std::size_t piece = 1u << 20;  // a multiple of every cluster

  void flush() {
    ByteView left = buffer_;
    while (!left.empty()) {
      if (run_ == runs_.size())
        throw Error(ErrorCode::guard, "a file of the system has outgrown its plan");
      const std::uint64_t clusters =
          std::min(runs_[run_].count - offset_, left.size() / cluster_bytes_);
      const ByteView part = left.first(clusters * cluster_bytes_);
      write_((runs_[run_].lcn + offset_) * cluster_sectors_, part);
      left = left.subspan(part.size());
      offset_ += clusters;
      if (offset_ == runs_[run_].count) {
        ++run_;
        offset_ = 0;
      }
    }
    buffer_.clear();
  }

  std::uint64_t cluster_bytes_;
  std::uint64_t cluster_sectors_;
  const Runs& runs_;
  const SectorWriter& write_;
  Bytes buffer_;
  std::size_t run_ = 0;
  std::uint64_t offset_ = 0;
};

// $MFT from its first record to its last, the mirror and the attribute lists on the way. Records
// are made in chunks, ahead of their writing.
class RecordStream {
 public:
  RecordStream(const Plan& plan, const SectorWriter& write) : plan_(plan), write_(write) {}

  void run() {
    pack_extended();
    RunWriter table(plan_, plan_.runs(Stream::mft), write_);
    RunWriter mirror(plan_, plan_.runs(Stream::mirror), write_);
    std::uint64_t mirror_left = plan_.size(Stream::mirror);
    Bytes bits(plan_.size(Stream::mft_bitmap));
    std::uint64_t number = 0;
    base::make_ahead(
        div_up<std::uint64_t>(plan_.records(), chunk_records),
        [this](std::size_t i) { return make_chunk(i * chunk_records); },
        [&](const Chunk& chunk) {
          table.add(chunk.records);
          const std::size_t n = std::min<std::size_t>(mirror_left, chunk.records.size());
          mirror.add(ByteView(chunk.records).first(n));
          mirror_left -= n;
          for (const bool used : chunk.used) {
            if (used)
              bits[number / 8] = static_cast<std::uint8_t>(bits[number / 8] | 1u << number % 8);
            ++number;
          }
        });
    table.finish();
    mirror.finish();
    RunWriter out(plan_, plan_.runs(Stream::mft_bitmap), write_);
    out.add(bits);
    out.finish();
  }

 private:
  static constexpr std::uint64_t chunk_records = 1024;
  struct Chunk {
    Bytes records;
    std::vector<bool> used;
  };

  // Files of more than one record: there are few of them, and their parts lie far from each other.
  void pack_extended() {
    for (const auto& [entity, file] : plan_.extended()) {
      const RecordHead head = head_of(plan_, entity);
      PackedFile packed = plan_.packer().pack(head, attributes_of(plan_, entity), file.list,
                                              new_extensions(file.first_extension));
      RunWriter list(plan_, file.list, write_);
      list.add(packed.list);
      list.finish();
      for (std::size_t i = 0; i < packed.records.size(); ++i) {
        const std::uint64_t number = i == 0 ? head.number : file.first_extension + i - 1;
        packed_[number] = std::move(packed.records[i]);
      }
    }
  }

  [[nodiscard]] Chunk make_chunk(std::uint64_t first) const {
    Chunk out;
    const std::uint64_t end = std::min(first + chunk_records, plan_.records());
    for (std::uint64_t number = first; number < end; ++number) {
      std::optional<Bytes> record = record_at(number);
      out.used.push_back(record.has_value());
      if (!record) record = plan_.packer().unused(number);
      RecordPacker::seal(*record);
      out.records.reserve((end - first) * record->size());
      out.records.insert(out.records.end(), record->begin(), record->end());
    }
    return out;
  }

  // None where the number is not in use.
  [[nodiscard]] std::optional<Bytes> record_at(std::uint64_t number) const {
    if (const auto packed = packed_.find(number); packed != packed_.end()) return packed->second;
    const std::uint64_t first = plan_.first_node_record();
    if (number == record_root) return pack(FileTree::root, number);
    if (number < 16 || (number >= first_user_record && number < first_user_record + 3))
      return pack(plan_.system(static_cast<std::uint32_t>(number)), number);
    if (number >= first && number - first + 1 < plan_.tree().size())
      return pack(static_cast<Plan::Entity>(number - first + 1), number);
    return std::nullopt;
  }

  [[nodiscard]] Bytes pack(Plan::Entity e, std::uint64_t number) const {
    PackedFile packed = plan_.packer().pack(head_of(plan_, e), attributes_of(plan_, e), {}, {});
    if (packed.records.size() != 1)
      throw Error(ErrorCode::guard, "a record has outgrown its plan", {.record = number});
    return std::move(packed.records.front());
  }

  const Plan& plan_;
  const SectorWriter& write_;
  std::map<std::uint64_t, Bytes> packed_;  // records of extended files, by number
};

struct AttributeDefinition {
  const char16_t* name;
  std::uint32_t type;
  std::uint32_t flags;  // 2: indexed; 40: always resident; 80: may be non-resident
  std::uint64_t least;
  std::uint64_t most;
};

constexpr std::uint64_t any = ~std::uint64_t{0};
constexpr AttributeDefinition definitions[] = {
    {u"$STANDARD_INFORMATION", at_standard_information, 0x40, 0x30, 0x48},
    {u"$ATTRIBUTE_LIST", at_attribute_list, 0x80, 0, any},
    {u"$FILE_NAME", at_file_name, 0x42, 0x44, 0x242},
    {u"$OBJECT_ID", at_object_id, 0x40, 0, 0x100},
    {u"$SECURITY_DESCRIPTOR", at_security_descriptor, 0x80, 0, any},
    {u"$VOLUME_NAME", at_volume_name, 0x40, 2, 0x100},
    {u"$VOLUME_INFORMATION", at_volume_information, 0x40, 0xC, 0xC},
    {u"$DATA", at_data, 0, 0, any},
    {u"$INDEX_ROOT", at_index_root, 0x40, 0, any},
    {u"$INDEX_ALLOCATION", at_index_allocation, 0x80, 0, any},
    {u"$BITMAP", at_bitmap, 0x80, 0, any},
    {u"$REPARSE_POINT", at_reparse_point, 0x80, 0, 0x4000},
    {u"$EA_INFORMATION", at_ea_information, 0x40, 8, 8},
    {u"$EA", at_ea, 0, 0, 0x10000},
    {u"$LOGGED_UTILITY_STREAM", at_logged_utility_stream, 0x80, 0, 0x10000},
};

Bytes attribute_definitions() {
  Bytes out(std::size_t{16} * 160);  // the last row is zero
  std::size_t at = 0;
  for (const AttributeDefinition& d : definitions) {
    std::size_t i = at;
    for (const char16_t* c = d.name; *c != 0; ++c, i += 2) out[i] = static_cast<std::uint8_t>(*c);
    struct {
      be::little_uint32_buf_t type, display, collation, flags;
      be::little_uint64_buf_t least, most;
    } row{};
    row.type = d.type;
    row.flags = d.flags;
    row.least = d.least;
    row.most = d.most;
    store(row, out, at + 128);
    at += 160;
  }
  return out;
}

// One bit a cluster, those beyond the end set; made piece by piece out of the used runs.
void write_bitmap(const Plan& plan, const Runs& used, const SectorWriter& write) {
  RunWriter out(plan, plan.runs(Stream::bitmap), write);
  constexpr std::uint64_t piece_bits = std::uint64_t{8} << 16;
  const std::uint64_t bits = plan.size(Stream::bitmap) * 8;
  auto run = used.begin();
  for (std::uint64_t first = 0; first < bits; first += piece_bits) {
    const std::uint64_t count = std::min(piece_bits, bits - first);
    Bytes piece(count / 8);
    const auto set = [&](std::uint64_t from, std::uint64_t to) {
      from = std::max(from, first);
      to = std::min(to, first + count);
      for (; from < to && from % 8 != 0; ++from)
        piece[(from - first) / 8] |= static_cast<std::uint8_t>(1u << from % 8);
      for (; from + 8 <= to; from += 8) piece[(from - first) / 8] = 0xFF;
      for (; from < to; ++from)
        piece[(from - first) / 8] |= static_cast<std::uint8_t>(1u << from % 8);
    };
    for (; run != used.end(); ++run) {
      set(run->lcn, run->lcn + run->count);
      if (run->lcn + run->count > first + count) break;
    }
    set(plan.clusters(), bits);
    out.add(piece);
  }
  out.finish();
}

void write_whole(const Plan& plan, Stream s, ByteView contents, const SectorWriter& write) {
  RunWriter out(plan, plan.runs(s), write);
  out.add(contents);
  out.finish();
}

void write_log(const Plan& plan, const SectorWriter& write) {
  RunWriter out(plan, plan.runs(Stream::log), write);
  const Bytes piece(1u << 16, 0xFF);  // "empty, restart"
  for (std::uint64_t at = 0; at < plan.log_bytes(); at += piece.size()) out.add(piece);
  out.finish();
}

Bytes folder_blocks(const Plan& plan, FileTree::Id id) {
  const std::vector<IndexItem> items = folder_items(plan, id);
  std::vector<std::uint32_t> sizes;
  sizes.reserve(items.size());
  for (const IndexItem& item : items)
    sizes.push_back(static_cast<std::uint32_t>(entry_bytes(item.body.size())));
  const IndexShape shape(sizes);
  Bytes out;
  out.reserve(shape.blocks() * index_block_bytes);
  for (std::size_t i = 0; i < shape.blocks(); ++i) {
    const Bytes block = index_block(shape, i, items, plan.index_unit());
    out.insert(out.end(), block.begin(), block.end());
  }
  return out;
}

void write_folders(const Plan& plan, const SectorWriter& write) {
  constexpr std::size_t batch_blocks = 256;
  using Entry = std::map<FileTree::Id, Plan::Folder>::const_iterator;
  std::vector<std::vector<Entry>> batches;
  std::size_t blocks = batch_blocks;
  for (Entry it = plan.folders().begin(); it != plan.folders().end(); ++it) {
    if (blocks >= batch_blocks) {
      batches.emplace_back();
      blocks = 0;
    }
    batches.back().push_back(it);
    blocks += it->second.blocks;
  }
  std::size_t taken = 0;
  base::make_ahead(
      batches.size(),
      [&](std::size_t i) {
        std::vector<Bytes> out;
        for (const Entry& e : batches[i]) out.push_back(folder_blocks(plan, e->first));
        return out;
      },
      [&](const std::vector<Bytes>& made) {
        const auto& batch = batches[taken++];
        for (std::size_t i = 0; i < made.size(); ++i) {
          RunWriter out(plan, batch[i]->second.runs, write);
          out.add(made[i]);
          out.finish();
        }
      });
}

std::int8_t size_code(std::uint64_t bytes, std::uint64_t cluster_bytes) {
  if (bytes >= cluster_bytes) return static_cast<std::int8_t>(bytes / cluster_bytes);
  int power = 0;
  while (std::uint64_t{1} << power < bytes) ++power;
  return static_cast<std::int8_t>(-power);
}

}  // namespace

void write_volume(const Plan& plan, const SectorReader& read, const SectorWriter& write,
                  const Announce& announce) {
  auto used = std::async(std::launch::async, [&plan] { return plan.used(); });
  announce("NTFS records: $MFT, its mirror and bitmap");
  RecordStream(plan, write).run();
  announce("NTFS $LogFile, empty");
  write_log(plan, write);
  announce("NTFS $AttrDef, $Bitmap, $UpCase and $Secure");
  write_whole(plan, Stream::attr_def, attribute_definitions(), write);
  write_bitmap(plan, used.get(), write);
  write_whole(plan, Stream::upcase, plan.upcase().contents(), write);
  write_whole(plan, Stream::security, plan.security().sds, write);
  announce("NTFS indexes of folders");
  write_folders(plan, write);
  const std::uint64_t spc = plan.format().cluster_sectors;
  announce("clusters of files, out of the way of NTFS boot sectors");
  for (const Plan::Move& move : plan.moves()) write(move.to * spc, read(move.from * spc, spc));
}

Bytes boot_sector(const Plan& plan) {
  const Format& format = plan.format();
  Boot boot{};
  boot.jump = {0xEB, 0x52, 0x90};
  boot.oem_id = {'N', 'T', 'F', 'S', ' ', ' ', ' ', ' '};
  boot.bytes_per_sector = static_cast<std::uint16_t>(format.sector_bytes);
  boot.sectors_per_cluster = static_cast<std::uint8_t>(format.cluster_sectors);
  boot.media = 0xF8;
  boot.sectors_per_track = std::uint16_t{63};
  boot.heads = std::uint16_t{255};
  boot.hidden_sectors = static_cast<std::uint32_t>(format.hidden_sectors);
  boot.drive = 0x00800080;
  boot.total_sectors = format.sectors - 1;
  boot.mft_lcn = plan.runs(Stream::mft).front().lcn;
  boot.mirror_lcn = plan.runs(Stream::mirror).front().lcn;
  boot.clusters_per_record = size_code(plan.packer().unused(0).size(), plan.cluster_bytes());
  boot.clusters_per_index_block = size_code(index_block_bytes, plan.cluster_bytes());
  boot.serial = format.serial;
  Bytes out(format.sector_bytes);
  store(boot, out);
  const ByteView code = base::volume_start_code();
  std::copy(code.begin(), code.end(), out.begin() + 2 + boot.jump[1]);
  out[510] = 0x55;
  out[511] = 0xAA;
  return out;
}

}  // namespace nuvrat::ntfs
