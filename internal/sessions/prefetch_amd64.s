#include "textflag.h"

// func prefetch(at uintptr)
TEXT ·prefetch(SB), NOSPLIT, $0-8
	MOVQ at+0(FP), AX
	PREFETCHT0 (AX)
	RET
