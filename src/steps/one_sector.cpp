#include "steps/one_sector.h"

#include <fmt/core.h>

#include <nuvrat/rewrite.h>

namespace nuvrat::steps {
namespace {

class OneSector final : public Rewrite {
 public:
  OneSector(std::string name, std::string purpose, SectorWrite sector,
            std::vector<std::uint64_t> copies)
      : name_(std::move(name)),
        purpose_(std::move(purpose)),
        sector_(std::move(sector)),
        copies_(std::move(copies)) {}
  [[nodiscard]] std::string name() const override { return name_; }
  void prepare(SectorSink& /*sink*/) override {}
  [[nodiscard]] SectorWrite switch_sector() const override { return sector_; }
  [[nodiscard]] std::string switch_purpose() const override { return purpose_; }
  [[nodiscard]] Exemptions exemptions(Phase /*phase*/) const override {
    if (copies_.empty()) return {};
    Exemption out{{}, "the second boot sector is a copy: the first one counts"};
    for (const std::uint64_t lba : copies_) out.sectors.add({lba, 1});
    return {out};
  }
  void settle(SectorSink& sink) override {
    if (!copies_.empty()) sink.purpose("second boot sector of the volume");
    for (const std::uint64_t lba : copies_) sink.write(lba, sector_.data);
  }

 private:
  std::string name_, purpose_;
  SectorWrite sector_;
  std::vector<std::uint64_t> copies_;
};

}  // namespace

std::unique_ptr<Rewrite> make_one_sector(std::string name, std::string purpose, SectorWrite sector,
                                         std::vector<std::uint64_t> copies) {
  return std::make_unique<OneSector>(std::move(name), std::move(purpose), std::move(sector),
                                     std::move(copies));
}

std::string BootSector::name() const {
  return fmt::format("boot sector of the volume at {}", lba);
}
std::unique_ptr<Rewrite> BootSector::make(const Step& /*step*/, const Device& /*device*/) const {
  return make_one_sector(name(), "boot sector of a volume, with one field changed", {lba, sector},
                         copies);
}

std::string EbrType::name() const {
  return fmt::format("type in the EBR at {}", lba);
}
std::unique_ptr<Rewrite> EbrType::make(const Step& /*step*/, const Device& /*device*/) const {
  return make_one_sector(name(), "EBR, with another type", {lba, sector}, {});
}

}  // namespace nuvrat::steps
