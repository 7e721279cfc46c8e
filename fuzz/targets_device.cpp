// A disk behind an address whose server answers anything.

#include <thread>

#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include "fuzz.h"

namespace fuzz {

using namespace nuvrat;

namespace {

// Says all that it has to say to whoever calls, then nothing more, and hears the rest.
class Server {
 public:
  Server(const std::filesystem::path& path, ByteView says)
      : socket_(::socket(AF_UNIX, SOCK_STREAM, 0)) {
    sockaddr_un address{};
    address.sun_family = AF_UNIX;
    path.string().copy(address.sun_path, sizeof address.sun_path - 1);
    if (::bind(socket_, reinterpret_cast<const sockaddr*>(&address), sizeof address) != 0 ||
        ::listen(socket_, 1) != 0)
      broken("no socket");
    thread_ = std::thread([this, says] { serve(says); });
  }
  Server(const Server&) = delete;
  Server& operator=(const Server&) = delete;
  ~Server() {
    ::shutdown(socket_, SHUT_RDWR);
    thread_.join();
    ::close(socket_);
  }

 private:
  void serve(ByteView says) const {
    const int caller = ::accept(socket_, nullptr, nullptr);
    if (caller < 0) return;
    while (!says.empty()) {
      const ssize_t sent = ::send(caller, says.data(), says.size(), MSG_NOSIGNAL);
      if (sent <= 0) break;
      says = says.subspan(static_cast<std::size_t>(sent));
    }
    ::shutdown(caller, SHUT_WR);
    std::uint8_t heard[4096];
    while (::read(caller, heard, sizeof heard) > 0) {
    }
    ::close(caller);
  }

  int socket_;
  std::thread thread_;
};

void nbd(ByteView input) {
  const TempFile name({});
  std::filesystem::remove(name.path());
  const Server server(name.path(), input);
  expect_answer([&] {
    const auto disk = open_device("nbd+unix:///?socket=" + name.path().string());
    (void)survey_text(survey_disk(*disk, utc(), true), {});
  });
}

void big(Bytes& out, std::uint64_t value, unsigned width) {
  for (unsigned i = width; i > 0; --i)
    out.push_back(static_cast<std::uint8_t>(value >> 8 * (i - 1)));
}

// The protocol's oldest greeting, and answers to the first reads: cookies count from 1.
Bytes session(std::uint64_t bytes, std::uint32_t error) {
  Bytes out;
  big(out, 0x4E42444D41474943, 8);
  big(out, 0x00420281861253, 8);
  big(out, bytes, 8);
  big(out, 1, 4);
  out.resize(out.size() + 124);
  for (std::uint64_t cookie = 1; cookie <= 40; ++cookie) {
    big(out, 0x67446698, 4);
    big(out, error, 4);
    big(out, cookie, 8);
    if (error == 0) out.resize(out.size() + 512);
  }
  return out;
}

std::vector<Bytes> nbd_seeds() {
  Bytes newer;
  big(newer, 0x4E42444D41474943, 8);
  big(newer, 0x49484156454F5054, 8);
  big(newer, 3, 2);
  return {session(1u << 20, 0), session(1u << 20, 5), session(1u << 20 | 7, 0),
          session(std::uint64_t{1} << 63, 0), newer};
}

}  // namespace

std::vector<Target> device_targets() {
  return {{"nbd", nbd, nbd_seeds}};
}

}  // namespace fuzz
