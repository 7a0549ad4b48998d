/* bcryptprimitives.dll, of which Go's runtime asks for one function: random bytes. The compatibility
   layer that the tests run Windows programs under may lack that library; it has the older function. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID buffer, ULONG length); /* advapi32: RtlGenRandom */

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE buffer, SIZE_T length)
{
	return SystemFunction036(buffer, (ULONG)length);
}
