// parse_raw FILE - unit P: the milliseconds of one simdjson DOM parse of the raw JSON of all indexes, median of 5.
#include <simdjson.h>

#include <algorithm>
#include <chrono>
#include <cstdio>

int main(int count, char** arguments) {
  if (count != 2) return 2;
  auto text = simdjson::padded_string::load(arguments[1]);
  std::vector<double> times;
  for (int i = 0; i < 5; ++i) {
    simdjson::dom::parser parser;
    const auto start = std::chrono::steady_clock::now();
    simdjson::dom::element element;
    if (parser.parse(text.value()).get(element) != simdjson::SUCCESS) return 1;
    times.push_back(std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - start).count());
  }
  std::sort(times.begin(), times.end());
  std::printf("%.2f\n", times[2]);
}
