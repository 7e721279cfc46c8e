#pragma once
// Whole reads and writes at an offset, over and over until the system has moved every byte.

#include <nuvrat/bytes.h>

namespace nuvrat::device {

/// How many bytes were moved before the system said no; `error` is its errno, or 0 at an end of
/// file.
struct Transfer {
  std::size_t bytes = 0;
  int error = 0;
};

Transfer try_read_at(int file, std::uint64_t offset, ByteSpan out);
Transfer try_write_at(int file, std::uint64_t offset, ByteView data);

/// As above, for temporary files: anything short is an Error (file).
void read_at(int file, std::uint64_t offset, ByteSpan out);
void write_at(int file, std::uint64_t offset, ByteView data);

}  // namespace nuvrat::device
