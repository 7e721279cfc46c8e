// survey DISK: what is on a disk, partition by partition.

#include <iostream>

#include <nuvrat/nuvrat.h>

int main(int argc, char** argv) {
  if (argc != 2) {
    std::cerr << "survey DISK\n";
    return 2;
  }
  try {
    const auto disk = nuvrat::open_device(argv[1]);  // read-only unless told otherwise
    const nuvrat::Survey survey = nuvrat::survey_disk(*disk, {});
    std::cout << nuvrat::name_of(survey.table.layout.kind) << ", tag " << survey.tag << '\n';
    for (const nuvrat::SurveyedPartition& p : survey.partitions) {
      std::cout << nuvrat::part_name(p.partition.number) << ' ' << p.signature.description;
      if (p.volume) {
        std::cout << " '" << nuvrat::printable(p.volume->label) << "', "
                  << nuvrat::format_bytes(p.volume->free_bytes) << " free";
      }
      std::cout << '\n';
    }
    for (const nuvrat::Finding& f : survey.all_findings())
      std::cout << nuvrat::name_of(f.severity) << ' ' << name_of(f.code) << ": " << f.text << '\n';
  } catch (const nuvrat::Error& e) {  // what, where, and what to do
    std::cerr << e.what() << '\n';
    return 1;
  }
}
