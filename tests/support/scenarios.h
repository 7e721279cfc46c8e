#pragma once
// Every rewrite that exists, each on a small disk: whoever adds a rewrite adds it here, and it goes
// through the power cuts, the kills and the way back.

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include <nuvrat/nuvrat.h>

namespace scenarios {

struct Scenario {
  std::string name;
  std::uint64_t sectors;
  std::uint32_t sector_size;
  std::function<void(nuvrat::Device&)> make;
  std::vector<std::string> goals;  ///< empty: check --repair
  [[nodiscard]] nuvrat::Assessment assess(nuvrat::Device& device) const;
};

[[nodiscard]] const std::vector<Scenario>& all();
[[nodiscard]] const Scenario& named(const std::string& name);
/// Seals of the disk before the steps and after each of them: all the same, unless a partition is
/// to go or to be made.
[[nodiscard]] std::vector<std::string> seals_on_the_way(const nuvrat::Device& disk,
                                                        const nuvrat::Assessment& assessment);
/// The disk of a scenario as an image.
void make_image(const std::filesystem::path& path, const Scenario& scenario);

}  // namespace scenarios
