#pragma once
// One damaged volume for each rule: the check names it. Damage is done to bytes, by the formats'
// descriptions.

#include <functional>
#include <set>

#include "support.h"

namespace support {

using namespace nuvrat;

template <typename Volume>
struct Damage {
  Rule code;
  std::function<void(Volume&)> done;
};

template <typename Volume>
void every_case_is_named(const std::vector<Damage<Volume>>& cases) {
  const Volume sound;
  CHECK(check_volume(*sound.disk, utc()).empty());
  const std::uint64_t files = manifest_of(*sound.disk).files();
  std::set<Rule> codes;
  for (const Damage<Volume>& c : cases) {
    CAPTURE(std::string(name_of(c.code)));
    Volume volume = Volume();
    c.done(volume);
    const Findings findings = check_volume(*volume.disk, utc());
    std::string all;
    for (const Finding& f : findings) all += std::string(name_of(f.code)) + " ";
    CHECK_MESSAGE(find_code(findings, c.code) != nullptr, "said instead: " << all);
    codes.insert(c.code);
    // No manifest of fewer files says that these are all, but where FAT shows no more of one than
    // clusters that nobody owns.
    const Manifest seen = manifest_of(*volume.disk);
    const bool lost = find_code(findings, Rule::fat_unowned) != nullptr;
    CHECK_MESSAGE((seen.files() >= files || !seen.whole() || lost), all);
  }
  MESSAGE(cases.size() << " damaged volumes, " << codes.size() << " rules named");
}

}  // namespace support
