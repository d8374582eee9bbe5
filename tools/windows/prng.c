/* bcryptprimitives.dll for a Wine that lacks it: random bytes from the system's own generator. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID buffer, ULONG length);

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T length)
{
    return SystemFunction036(data, (ULONG)length);
}
