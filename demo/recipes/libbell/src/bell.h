#pragma once
#ifdef __cplusplus
extern "C" {
#endif
/* A text of so many strokes. The caller gives room for 5 bytes each. */
void ring(char* into, int strokes);
#ifdef __cplusplus
}
#endif
