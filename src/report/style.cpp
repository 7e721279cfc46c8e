#include "report/style.h"

#include <fmt/core.h>

#include <nuvrat/columns.h>
#include <nuvrat/text.h>

namespace nuvrat::report {
namespace {

// Control characters that printable() leaves in no text.
constexpr char begins = '\x0E';
constexpr char ends = '\x0F';

// Of the 256 colours, those of middling lightness: 4 to 1 or more against white and black alike.
int colour_of(char tone) {
  switch (static_cast<Tone>(tone)) {
    case Tone::good:
      return 28;
    case Tone::caution:
      return 130;
    case Tone::bad:
      return 196;
    case Tone::quiet:
      return 243;
    case Tone::fat:
      return 30;
    case Tone::ntfs:
      return 64;
    case Tone::other:
      return 97;
    case Tone::plain:
      return -1;
  }
  return -1;
}

std::size_t width_of_marked(std::string_view text) {
  std::string bare;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == begins) {
      ++i;
    } else if (text[i] != ends) {
      bare += text[i];
    }
  }
  return display_width(bare);
}

// The tone that is open at the end of a line, by what was open at its start.
char open_after(std::string_view line, char open) {
  for (std::size_t i = 0; i < line.size(); ++i) {
    if (line[i] == begins && i + 1 < line.size()) open = line[i + 1];
    if (line[i] == ends) open = 0;
  }
  return open;
}

}  // namespace

std::string toned(Tone tone, std::string_view text) {
  if (tone == Tone::plain) return std::string(text);
  return std::string{begins, static_cast<char>(tone)} + std::string(text) + ends;
}

std::string paint(std::string_view text, const TextStyle& style) {
  std::string out;
  bool open = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == begins && i + 1 < text.size()) {
      ++i;
      if (style.colour) out += fmt::format("\x1b[38;5;{}m", colour_of(text[i]));
      open = true;
    } else if (text[i] == ends) {
      if (style.colour) out += "\x1b[0m";
      open = false;
    } else {
      out += text[i];
    }
  }
  return out + (open && style.colour ? "\x1b[0m" : "");
}

namespace {

// Where a word ends that ends here, its unit taken along: a size is one word.
std::size_t unit_after(const std::string& text, std::size_t end) {
  if (text[end - 1] < '0' || text[end - 1] > '9') return end;
  for (const std::string_view unit : {" bytes", " KiB", " MiB", " GiB", " TiB", " PiB", " EiB"}) {
    if (text.compare(end, unit.size(), unit) != 0) continue;
    const std::size_t space = text.find(' ', end + 1);  // with what follows it: a comma, a bracket
    return space == text.npos ? text.size() : space;
  }
  return end;
}

// Where a command in single quotes ends that begins there, with what follows it: a command is one
// word, to be copied whole. What is in double quotes is a path.
std::size_t command_after(const std::string& text, std::size_t at, std::size_t end) {
  if (text.compare(at, 8, "'nuvrat ") != 0) return end;
  for (std::size_t i = at + 1; i < text.size(); ++i) {
    if (text[i] == '"') {
      for (++i; i < text.size() && text[i] != '"'; ++i) i += text[i] == '\\' ? 1 : 0;
    } else if (text[i] == '\'') {
      return std::min(text.find(' ', i), text.size());
    }
  }
  return end;
}

}  // namespace

std::string wrap(const std::string& text, const TextStyle& style, const std::string& first,
                 const std::string& rest) {
  std::string out;
  std::string line;
  char open = 0;
  bool begun = false;
  const auto emit = [&] {
    const std::string carried = open != 0 ? std::string{begins, open} : "";
    out += (out.empty() ? first : rest) + paint(carried + line, style) + "\n";
    open = open_after(line, open);
    line.clear();
    begun = false;
  };
  for (std::size_t at = 0; at <= text.size();) {
    std::size_t end = text.find(' ', at);
    if (end == text.npos) end = text.size();
    if (end > at) end = command_after(text, at, unit_after(text, end));
    const std::string word = text.substr(at, end - at);
    const std::size_t margin = display_width(out.empty() ? first : rest);
    if (begun && margin + width_of_marked(line) + 1 + width_of_marked(word) > style.width) emit();
    line += (begun ? " " : "") + word;
    begun = true;
    at = end + 1;
  }
  emit();
  return out;
}

}  // namespace nuvrat::report

namespace nuvrat {
using namespace report;

std::string ascii_text(std::string_view utf8) {
  constexpr std::pair<std::string_view, const char*> known[] = {
      {"─", "-"}, {"━", "="}, {"┄", "."}, {"│", "|"}, {"═", "="}, {"┌", "+"},
      {"┬", "+"}, {"┐", "+"}, {"└", "+"}, {"┴", "+"}, {"┘", "+"}, {"…", "~"},
      {"→", ">"}, {"×", "x"}, {"▰", "#"}, {"▱", "."}};
  std::string out;
  for (std::size_t at = 0; at < utf8.size();) {
    const auto byte = static_cast<unsigned char>(utf8[at]);
    if (byte < 0x80) {
      out += utf8[at++];
      continue;
    }
    std::size_t length = 1;
    while (at + length < utf8.size() &&
           (static_cast<unsigned char>(utf8[at + length]) & 0xC0) == 0x80)
      ++length;
    const std::string_view whole = utf8.substr(at, length);
    const char* plain = "?";
    for (const auto& [letter, instead] : known) {
      if (letter == whole) plain = instead;
    }
    out += plain;
    at += length;
  }
  return out;
}

}  // namespace nuvrat
