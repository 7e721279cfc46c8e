#include "measure.h"

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <functional>
#include <sstream>

#include <fmt/core.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

using namespace nuvrat;

namespace bench {

double seconds(const std::function<void()>& work) {
  const auto begin = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

double median(std::vector<double> values) {
  std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2),
                   values.end());
  return values[values.size() / 2];
}

Figures in_child(const std::function<void(Figures&)>& work) {
  int ends[2];
  if (pipe(ends) != 0) throw Error(ErrorCode::file, "no pipe");
  std::fflush(stdout);
  const pid_t child = fork();
  if (child == 0) {
    Figures figures;
    try {
      work(figures);
    } catch (const std::exception& e) {
      fmt::print(stderr, "{}\n", e.what());
      _exit(1);
    }
    std::string text;
    for (const auto& [name, value] : figures) text += fmt::format("{} {}\n", name, value);
    _exit(write(ends[1], text.data(), text.size()) == static_cast<ssize_t>(text.size()) ? 0 : 1);
  }
  close(ends[1]);
  std::string text(4096, '\0');
  std::size_t got = 0;
  for (ssize_t n = 1; n > 0; got += static_cast<std::size_t>(n))
    n = std::max<ssize_t>(0, read(ends[0], text.data() + got, text.size() - got));
  close(ends[0]);
  int status = 0;
  rusage usage{};
  wait4(child, &status, 0, &usage);
  if (status != 0) std::exit(1);
  Figures out;
  std::istringstream lines(text.substr(0, got));
  double value = 0;
  for (std::string name; lines >> name >> value;) out[name] = value;
  out["peak_bytes"] = static_cast<double>(usage.ru_maxrss) * 1024;
  return out;
}

void shell(const std::string& command) {
  if (std::system(command.c_str()) != 0) throw Error(ErrorCode::file, command);
}

Meter::Meter(Device& below)
    : Device(below.sector_size(), below.sectors(), below.identity()), below_(below) {}

std::uint64_t Meter::next_data(std::uint64_t lba) const {
  return below_.next_data(lba);
}

void Meter::do_read(std::uint64_t lba, ByteSpan out) const {
  bytes_read += out.size();
  below_.read(lba, out);
}

void Meter::do_write(std::uint64_t lba, ByteView data) {
  bytes_written += data.size();
  below_.write(lba, data);
}

void Stages::stage(std::string_view name, std::uint64_t /*total*/) {
  const auto now = std::chrono::steady_clock::now();
  if (!name_.empty()) seconds_[name_] += std::chrono::duration<double>(now - begun_).count();
  name_ = name.substr(0, name.find(' '));
  begun_ = now;
}

void row(const std::string& what, const std::vector<std::string>& figures, const std::string& aim) {
  fmt::print("| {:<66} |", what);
  for (const std::string& figure : figures) fmt::print(" {:>14} |", figure);
  fmt::print(" {:>9} |\n", aim);
  std::fflush(stdout);
}

}  // namespace bench
