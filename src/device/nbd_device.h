#pragma once
// A disk that a server offers over the NBD protocol: on another machine, or in a wrapping that the
// server takes off.

#include <memory>
#include <string>

#include <nuvrat/open.h>

namespace nuvrat::device {

/// nbd://HOST[:PORT]/EXPORT, nbd+unix:///EXPORT?socket=PATH, or nbds for TLS. Errors as
/// open_device; a lost connection is a device that fails.
[[nodiscard]] std::unique_ptr<Device> open_nbd(const std::string& address,
                                               const OpenOptions& options);

}  // namespace nuvrat::device
