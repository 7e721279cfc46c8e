#include <fmt/core.h>

#include <nuvrat/report.h>
#include <nuvrat/text.h>

#include "report/map.h"
#include "report/style.h"

namespace nuvrat {
using namespace report;

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
  for (const Assessment& a : goals) {
    const std::string goal = a.goals.empty() ? "" : a.goals[0].text();
    std::string text =
        a.in_reach() ? toned(Tone::good, "in reach") : "no: " + printable(a.obstacles[0].text);
    if (!a.in_reach() && !a.obstacles[0].remedy.empty())
      text += ". " + printable(a.obstacles[0].remedy);
    out += wrap(text, style, fmt::format("  {:<16} ", goal), std::string(19, ' '));
  }
  return out;
}

}  // namespace nuvrat
