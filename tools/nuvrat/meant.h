#pragma once
// Words that people type, and the command that they mean.

#include <string>
#include <string_view>
#include <vector>

#include <nuvrat/error.h>

namespace cli {

/// The verb that does what this word says in plain English; empty for a word that says nothing.
[[nodiscard]] std::string verb_for(std::string_view word);
/// The same for an option: the one to say instead, and why.
[[nodiscard]] std::string option_for(std::string_view option);
/// Goals before the disk, or a disk where a goal belongs: Error (words) with the command in the
/// right order. Nothing where DISK is a disk.
void require_disk_first(const std::string& verb, const std::string& disk,
                        const std::vector<std::string>& goals);
/// A first word that is no verb.
[[nodiscard]] nuvrat::Error no_verb(const std::string& word, const std::vector<std::string>& rest,
                                    const std::vector<std::string>& verbs);
/// The argument that a verb lacks, as the parser names it ("DISK is required"), with the command in
/// full.
[[nodiscard]] nuvrat::Error lacking(const std::string& verb, const std::string& what,
                                    const std::vector<std::string>& words);

}  // namespace cli
