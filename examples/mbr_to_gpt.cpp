// mbr_to_gpt DISK CASE: a disk's MBR becomes a GPT, with progress; the page is written at the end.

#include <filesystem>
#include <iostream>

#include <nuvrat/nuvrat.h>

namespace {

class Percent final : public nuvrat::Progress {
 public:
  void stage(std::string_view name, std::uint64_t total) override {
    name_ = name;
    total_ = total;
    done_ = 0;
    std::cout << name_ << '\n';
  }
  void advance(std::uint64_t bytes) override {
    const std::uint64_t before = percent();
    done_ += bytes;
    if (percent() / 25 != before / 25) std::cout << name_ << ": " << percent() << " %\n";
  }
  [[nodiscard]] bool cancelled() const override { return false; }

 private:
  [[nodiscard]] std::uint64_t percent() const { return total_ == 0 ? 0 : done_ * 100 / total_; }
  std::string name_;
  std::uint64_t total_ = 0, done_ = 0;
};

}  // namespace

int main(int argc, char** argv) {
  if (argc != 3) {
    std::cerr << "mbr_to_gpt DISK CASE\n";
    return 2;
  }
  try {
    const auto disk = nuvrat::open_device(argv[1], {.writable = true});
    const auto plan = nuvrat::assess(*disk, {nuvrat::parse_goal("table=gpt")});
    for (const nuvrat::Obstacle& o : plan.obstacles)
      std::cout << name_of(o) << ": " << o.text << ". " << o.remedy << '\n';
    if (!plan.in_reach()) return 3;
    for (const nuvrat::Consent& c : plan.consents)
      std::cout << "agreed: " << plan.text_of(c) << '\n';

    nuvrat::JobOptions options;
    options.case_folder = argv[2];
    Percent progress;
    const nuvrat::JobResult result = nuvrat::run_job(*disk, plan, options, progress);
    std::cout << result.files << " files, seal " << result.comparison.seal_after << ", "
              << (result.sound() ? "nothing was lost" : "something differs") << '\n';
    nuvrat::save_report(nuvrat::read_record(options.case_folder, disk.get()),
                        std::filesystem::path(options.case_folder) / "report.html");
    return result.sound() ? 0 : 1;
  } catch (const nuvrat::Error& e) {
    std::cerr << e.what() << '\n';
    return 1;
  }
}
