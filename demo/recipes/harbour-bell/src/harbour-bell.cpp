#include <bell.h>

#include <cstdlib>
#include <iostream>
#include <vector>

int main(int count, char** words) {
  const int hour = count > 1 ? std::atoi(words[1]) % 24 : 12;
#ifndef NIGHT
  if (hour >= 22 || hour < 6) return 0;
#endif
  const int strokes = hour % 12 == 0 ? 12 : hour % 12;
  std::vector<char> text(static_cast<std::size_t>(strokes) * 5 + 1);
  ring(text.data(), strokes);
  std::cout << text.data() << '\n';
}
