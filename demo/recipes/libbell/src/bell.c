#include "bell.h"

#include <string.h>

void ring(char *into, int strokes) {
  *into = '\0';
  for (int i = 0; i < strokes; ++i) strcat(into, "dong ");
}
