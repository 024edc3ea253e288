/* bcryptprimitives.dll for a Wine that has none: programs made by Go ask it for random bytes when they start. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T n) { return SystemFunction036(data, (ULONG)n); }
