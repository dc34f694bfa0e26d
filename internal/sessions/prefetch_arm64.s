#include "textflag.h"

// func prefetch(at uintptr)
TEXT ·prefetch(SB), NOSPLIT, $0-8
	MOVD at+0(FP), R0
	PRFM (R0), PLDL1KEEP
	RET
