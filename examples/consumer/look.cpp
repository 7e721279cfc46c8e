// look DISK: the labels of the volumes on a disk.

#include <iostream>

#include <nuvrat/nuvrat.h>

int main(int argc, char** argv) {
  if (argc != 2) return 2;
  try {
    const auto disk = nuvrat::open_device(argv[1]);
    const nuvrat::Survey survey = nuvrat::survey_disk(*disk, {});
    for (const nuvrat::SurveyedPartition& p : survey.partitions) {
      if (p.volume) std::cout << 'p' << p.partition.number << ' ' << p.volume->label << '\n';
    }
  } catch (const nuvrat::Error& e) {
    std::cerr << e.what() << '\n';
    return 1;
  }
  return 0;
}
