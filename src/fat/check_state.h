#pragma once
// What the parts of the FAT check gather and share.

#include <string>
#include <vector>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/finding_log.h"
#include "fat/check.h"

namespace nuvrat::fat {

struct CheckState {
  CheckState(const Device& from, const ReadOptions& options)
      : device(from),
        page(options.codepage),
        boot(from.read(0)),
        g(geometry_of(from, boot)),
        ratio(g.sector_bytes / from.sector_size()),
        map(from, g, g.active_fat),
        chains(map.budget()) {
    facts.geometry = g;
  }

  struct Node {
    std::uint32_t parent;
    std::u16string name;
  };
  struct Claim {
    std::uint32_t first, count, node;
  };

  const Device& device;
  CodePage page;
  Bytes boot;
  Geometry g;
  std::uint32_t ratio;
  Map map;
  Budget chains;
  FindingLog log;
  Facts facts;
  static constexpr std::uint32_t root = 0;  ///< of the nodes, for the volume itself too
  std::vector<Node> nodes;                  ///< folders and files
  std::vector<Claim> claims;                ///< which node has which clusters

  void add(const char* code, Severity severity, std::optional<std::uint64_t> sector,
           std::uint32_t node, std::string text, bool repairable = false) {
    if (sector) *sector *= ratio;
    log.add(
        code, severity,
        [&] {
          return Place{{}, sector, {}, path(node)};
        },
        std::move(text), repairable);
  }
  void error(const char* code, std::uint32_t node, std::string text, bool repairable = false) {
    add(code, Severity::error, {}, node, std::move(text), repairable);
  }

  [[nodiscard]] std::string path(std::uint32_t node) const {
    std::vector<std::uint32_t> up;
    for (; node != root; node = nodes[node].parent) up.push_back(node);
    std::string out;
    for (auto it = up.rbegin(); it != up.rend(); ++it)
      out += (out.empty() ? "" : "/") + to_utf8(nodes[*it].name);
    return out;
  }
};

/// Walks every folder: entries, names, and whose chains are whose.
void check_folders(CheckState& state);

}  // namespace nuvrat::fat
