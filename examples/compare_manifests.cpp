// compare_manifests DISK OTHER: what is on one disk and not, or otherwise, on the other.

#include <iostream>

#include <nuvrat/nuvrat.h>

int main(int argc, char** argv) {
  if (argc != 3) {
    std::cerr << "compare_manifests DISK OTHER\n";
    return 2;
  }
  try {
    nuvrat::QuietProgress quiet;
    const auto first = nuvrat::open_device(argv[1]);
    const auto second = nuvrat::open_device(argv[2]);
    const nuvrat::Manifest before = nuvrat::take_manifest(*first, {}, quiet);
    const nuvrat::Manifest after = nuvrat::take_manifest(*second, {}, quiet);
    const nuvrat::Comparison comparison = nuvrat::compare(before, after);
    std::cout << comparison.seal_before << '\n' << comparison.seal_after << '\n';
    for (const nuvrat::Difference& d : comparison.differences) {
      std::cout << nuvrat::name_of(d.kind) << ' ' << nuvrat::part_name(d.number) << '/'
                << nuvrat::printable(d.path) << ": " << d.text << '\n';
    }
    return comparison.equal() ? 0 : 1;
  } catch (const nuvrat::Error& e) {
    std::cerr << e.what() << '\n';
    return 2;
  }
}
