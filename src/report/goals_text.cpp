#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/report.h>
#include <nuvrat/text.h>

#include "report/map.h"
#include "report/style.h"

namespace nuvrat {
using namespace report;
namespace {

// In reach or not; and, where it is, whether the disk still boots.
std::string words_on(const Assessment& a) {
  if (!a.in_reach()) {
    const Obstacle& o = a.obstacles[0];
    return toned(Tone::bad, "no") + ": " + printable(o.text) +
           (o.remedy.empty() ? "" : ". " + printable(o.remedy));
  }
  for (const Consent& c : a.consents) {
    if (c.code == ConsentCode::start || c.code == ConsentCode::system ||
        (c.code == ConsentCode::firmware && !a.boot))
      return toned(Tone::caution, "in reach") + ", but " + printable(c.text);
  }
  return toned(Tone::good, "in reach");
}

}  // namespace

std::string goals_text(const DeviceIdentity& device, const std::vector<Assessment>& goals,
                       const TextStyle& style) {
  if (goals.empty()) {
    return wrap(
        printable(device.path) + ": there is no goal for what it holds; see 'nuvrat survey'", style,
        "", "");
  }
  std::size_t reach = 0;
  for (const Assessment& a : goals) reach += a.in_reach() ? 1 : 0;
  std::string out = fmt::format("{}: {} of {} in reach\n\n", printable(device.path), reach,
                                plural(goals.size(), "goal", "goals"));
  std::size_t column = 12;
  for (const Assessment& a : goals) column = std::max(column, texts_of(a.goals).size());
  bool long_before = false;
  for (const Assessment& a : goals) {
    const std::string lines =
        wrap(words_on(a), style, fmt::format("  {:<{}}  ", texts_of(a.goals), column),
             std::string(column + 4, ' '));
    const bool is_long = std::count(lines.begin(), lines.end(), '\n') > 1;
    if (&a != &goals.front() && (is_long || long_before)) out += "\n";
    out += lines;
    long_before = is_long;
  }
  return out;
}

}  // namespace nuvrat
