#pragma once
// Words that more than one goal is said with.

#include <optional>
#include <string>
#include <string_view>

#include <nuvrat/goal.h>

namespace nuvrat::goals {

/// The state is one of those that the word lists.
[[nodiscard]] bool lists(const GoalWord& word, std::string_view state);
/// "20GiB", "20gib", "20G": more than nothing, and with its unit.
[[nodiscard]] std::optional<std::uint64_t> parse_size(std::string_view state);
/// The shortest word that parse_size reads as so many bytes: "1.5TiB", "20MB".
[[nodiscard]] std::string size_word(std::uint64_t bytes);
/// "ntfs" as "NTFS"
[[nodiscard]] std::string in_capitals(std::string text);
/// "p3"; "volume" for the one of a disk without a table.
[[nodiscard]] std::string part_of(unsigned partition);
/// "the volume on p3", "the volume"
[[nodiscard]] std::string volume_on(unsigned partition);
/// Throws Error (words): what was asked for makes no sense.
[[noreturn]] void makes_no_sense(const std::string& text, const std::string& remedy);

}  // namespace nuvrat::goals
