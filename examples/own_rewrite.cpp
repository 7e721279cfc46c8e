// own_rewrite JOURNAL: a rewrite of one's own, in memory: an MBR gets another disk identity. It is
// played through past the guard, recorded, done, and put back.

#include <iostream>

#include <nuvrat/nuvrat.h>

namespace {

std::unique_ptr<nuvrat::MemoryDevice> make_disk() {
  auto disk = std::make_unique<nuvrat::MemoryDevice>(80000, 512);
  nuvrat::Layout layout;
  layout.kind = nuvrat::TableKind::mbr;
  layout.disk_sectors = disk->sectors();
  layout.disk_signature = 0x00712DE5;
  nuvrat::Partition partition;
  partition.number = 1;
  partition.start = 2048;
  partition.sectors = 60000;
  partition.type = std::uint8_t{0x0E};
  layout.partitions = {partition};
  nuvrat::write_new_table(*disk, layout);
  return disk;
}

// One sector says everything, so there is nothing to prepare and nothing to tidy up. A rewrite that
// is wrong (`over_partition`) prepares where a partition is.
class NewIdentity final : public nuvrat::Rewrite {
 public:
  NewIdentity(const nuvrat::Device& disk, bool over_partition) : over_partition_(over_partition) {
    nuvrat::TableReading table = nuvrat::read_table(disk);
    table.layout.disk_signature = 0x0EBB71DE;
    sector0_ = nuvrat::build_mbr(table.layout, table.sector0);
  }
  [[nodiscard]] std::string name() const override { return "another disk identity"; }
  void prepare(nuvrat::SectorSink& sink) override {
    if (over_partition_) sink.write(2048, sector0_);
  }
  [[nodiscard]] nuvrat::SectorWrite switch_sector() const override { return {0, sector0_}; }
  [[nodiscard]] std::string switch_purpose() const override { return "MBR"; }
  void settle(nuvrat::SectorSink& /*sink*/) override {}

 private:
  bool over_partition_;
  nuvrat::Bytes sector0_;
};

std::string identity_of(const nuvrat::Device& disk) {
  return nuvrat::read_table(disk).layout.id_text();
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 2) {
    std::cerr << "own_rewrite JOURNAL\n";
    return 2;
  }
  const auto disk = make_disk();
  nuvrat::QuietProgress quiet;
  try {
    NewIdentity wrong(*disk, true);
    nuvrat::Overlay overlay(*disk);
    (void)nuvrat::Engine::inspect(wrong, overlay, nuvrat::owned_sectors);
    return 1;
  } catch (const nuvrat::Error& e) {
    std::cout << "the guard: " << e.message() << '\n';
  }
  NewIdentity rewrite(*disk, false);
  nuvrat::Overlay rehearsed(*disk);
  const auto inspection = nuvrat::Engine::inspect(rewrite, rehearsed, nuvrat::owned_sectors);
  auto journal = nuvrat::Journal::create(argv[1], *disk, nuvrat::Undo::full);
  journal.record_step(0, *disk, inspection, rehearsed);
  std::cout << "before " << identity_of(*disk);
  nuvrat::Engine(*disk, quiet).run(rewrite, inspection);
  journal.mark_done(0);
  std::cout << ", after " << identity_of(*disk);
  journal.put_back(*disk, quiet);
  std::cout << ", put back " << identity_of(*disk) << '\n';
}
