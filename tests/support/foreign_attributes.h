#pragma once
// Attributes of NTFS records as bytes, from the format's description: what foreign_ntfs.cpp puts
// into its records.

#include <string>
#include <vector>

#include <nuvrat/bytes.h>

namespace foreign {

using nuvrat::Bytes;

constexpr std::uint64_t long_ago = 0x01C6B4E2D3A10000;  // in 2006

struct Extent {
  std::uint64_t lcn, count;
};
using Extents = std::vector<Extent>;

// What both forms of an attribute begin with.
struct Title {
  std::uint32_t type;
  std::u16string name{};
};

struct Lengths {
  std::uint64_t size, written, first_vcn = 0;
};

void append(Bytes& out, std::uint64_t value, unsigned width);
void append(Bytes& out, const Bytes& more);
/// Zeros up to a multiple of eight.
void align(Bytes& out);
[[nodiscard]] Bytes units_of(const std::u16string& text);

// Ids are given where attributes are put into a record.
[[nodiscard]] Bytes resident(const Title& title, const Bytes& value);
[[nodiscard]] Bytes non_resident(const Title& title, const Extents& extents, std::uint64_t cluster,
                                 const Lengths& lengths);
/// A hole of so many clusters, then one run; the form that sparse attributes have.
[[nodiscard]] Bytes sparse(const Title& title, std::uint64_t hole, const Extent& run,
                           std::uint64_t cluster);
/// Times, bits; with the fields that version 3 added, or without.
[[nodiscard]] Bytes information(std::uint32_t bits, bool short_form, std::uint32_t security_id);
[[nodiscard]] Bytes name_value(std::uint64_t parent, const std::u16string& name, std::uint8_t space,
                               std::uint64_t allocated, std::uint64_t size, std::uint32_t bits);
/// Everyone may do what the mask says; owned by administrators.
[[nodiscard]] Bytes descriptor(std::uint32_t mask);
/// The contents of $AttrDef.
[[nodiscard]] Bytes attribute_definitions();

}  // namespace foreign
