#include "textflag.h"

DATA findBytes<>+0(SB)/1, $10   // line feed
DATA findBytes<>+1(SB)/1, $58   // colon
DATA findBytes<>+2(SB)/1, $40   // bracket
DATA findBytes<>+3(SB)/1, $27   // escape
DATA findBytes<>+4(SB)/1, $13   // carriage return
DATA findBytes<>+5(SB)/1, $48   // the digit 0
DATA findBytes<>+6(SB)/1, $9    // how far the digits go
DATA findBytes<>+7(SB)/1, $32   // space
GLOBL findBytes<>(SB), RODATA|NOPTR, $8

// For these there is no register left.
DATA bells<>+0(SB)/8, $0x0707070707070707
DATA bells<>+8(SB)/8, $0x0707070707070707
DATA bells<>+16(SB)/8, $0x0707070707070707
DATA bells<>+24(SB)/8, $0x0707070707070707
GLOBL bells<>(SB), RODATA|NOPTR, $32
DATA backspaces<>+0(SB)/8, $0x0808080808080808
DATA backspaces<>+8(SB)/8, $0x0808080808080808
DATA backspaces<>+16(SB)/8, $0x0808080808080808
DATA backspaces<>+24(SB)/8, $0x0808080808080808
GLOBL backspaces<>(SB), RODATA|NOPTR, $32

// SPOTS finds those of the 32 bytes at off: ends and hints, 32 bits each.
#define SPOTS(off, ends, hints) \
	VMOVDQU   off(SI), Y8       \
	VMOVDQU   (off+1)(SI), Y9   \
	VPCMPEQB  Y0, Y8, Y10       \
	VPMOVMSKB Y10, ends         \
	VPSUBB    Y5, Y9, Y11       \
	VPMINUB   Y6, Y11, Y12      \
	VPCMPEQB  Y11, Y12, Y12     \ // a digit behind
	VPCMPEQB  Y7, Y9, Y13       \
	VPOR      Y12, Y13, Y13     \ // or a space
	VPCMPEQB  Y1, Y8, Y14       \
	VPAND     Y13, Y14, Y14     \
	VPCMPEQB  Y2, Y8, Y15       \
	VPAND     Y12, Y15, Y15     \
	VPOR      Y15, Y14, Y14     \
	VPCMPEQB  Y3, Y8, Y15       \
	VPOR      Y15, Y14, Y14     \
	VPCMPEQB  Y4, Y8, Y15       \
	VPOR      Y15, Y14, Y14     \
	VPCMPEQB  bells<>(SB), Y8, Y15 \
	VPOR      Y15, Y14, Y14     \
	VPCMPEQB  backspaces<>(SB), Y8, Y15 \
	VPOR      Y15, Y14, Y14     \
	VPMOVMSKB Y14, hints

// func findAVX2(text *byte, into *spots, n int)
TEXT ·findAVX2(SB), NOSPLIT, $0-24
	MOVQ text+0(FP), SI
	MOVQ into+8(FP), DI
	MOVQ n+16(FP), CX
	VPBROADCASTB findBytes<>+0(SB), Y0
	VPBROADCASTB findBytes<>+1(SB), Y1
	VPBROADCASTB findBytes<>+2(SB), Y2
	VPBROADCASTB findBytes<>+3(SB), Y3
	VPBROADCASTB findBytes<>+4(SB), Y4
	VPBROADCASTB findBytes<>+5(SB), Y5
	VPBROADCASTB findBytes<>+6(SB), Y6
	VPBROADCASTB findBytes<>+7(SB), Y7

next:
	SPOTS(0, AX, BX)
	SPOTS(32, R8, R9)
	SHLQ $32, R8
	SHLQ $32, R9
	ORQ  R8, AX
	ORQ  R9, BX
	MOVQ AX, 0(DI)
	MOVQ BX, 8(DI)
	ADDQ $64, SI
	ADDQ $16, DI
	DECQ CX
	JNZ  next
	VZEROUPPER
	RET
