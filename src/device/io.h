#pragma once
// Whole reads and writes at an offset, over and over until the system has moved every byte.

#include <nuvrat/bytes.h>

namespace nuvrat::io {

/// How many bytes could be moved before the system said no; `error` is its errno, or 0 at an end of
/// file.
struct Moved {
  std::size_t bytes = 0;
  int error = 0;
};

Moved try_read_at(int file, std::uint64_t offset, ByteSpan out);
Moved try_write_at(int file, std::uint64_t offset, ByteView data);

/// As above, for temporary files: anything short is an Error (file).
void read_at(int file, std::uint64_t offset, ByteSpan out);
void write_at(int file, std::uint64_t offset, ByteView data);

}  // namespace nuvrat::io
