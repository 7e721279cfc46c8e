// table=gpt, table=mbr

#include <fmt/core.h>

#include "goals/asked.h"
#include "goals/words.h"

namespace nuvrat {
using namespace goals;

const std::vector<GoalWord>& TableGoal::words() {
  static const std::vector<GoalWord> words = {
      {"table", {"gpt", "mbr"}, "the kind of partition table"}};
  return words;
}

std::optional<TableGoal> TableGoal::parse(unsigned, std::string_view state) {
  for (const TableKind kind : {TableKind::gpt, TableKind::mbr}) {
    if (state == name_of(kind)) return TableGoal{kind};
  }
  return std::nullopt;
}

std::string TableGoal::state() const {
  return name_of(kind);
}

std::string TableGoal::sentence() const {
  return fmt::format("the partition table is to be {} {}", kind == TableKind::mbr ? "an" : "a",
                     in_capitals(state()));
}
}  // namespace nuvrat
