/* A stand-in for the library that Windows' random numbers come from, for an implementation of Windows without it. */
#include <windows.h>
#include <ntsecapi.h>

BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T length)
{
    while (length) {
        ULONG part = length > 65536 ? 65536 : (ULONG)length;
        if (!RtlGenRandom(data, part)) return FALSE;
        data += part;
        length -= part;
    }
    return TRUE;
}

BOOL WINAPI DllMain(HINSTANCE library, DWORD reason, LPVOID reserved)
{
    return TRUE;
}
