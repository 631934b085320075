#include "textflag.h"

// EMIT writes where the lowest bit of AX is, and takes it out. With none left it
// writes what is written over later or never read.
#define EMIT(offset) \
	TZCNTQ AX, R11 \
	ADDL   R9, R11 \
	MOVL   R11, offset(DI) \
	BLSRQ  AX, AX

// BYTES fills a register with one character.
#define BYTES(char, reg, xreg) \
	MOVL         $char, AX \
	MOVQ         AX, xreg \
	VPBROADCASTB xreg, reg

// func markWide(text *byte, blocks int, tape *uint32, spaces *uint64) int
TEXT ·markWide(SB), NOSPLIT, $0-40
	MOVQ text+0(FP), SI
	MOVQ blocks+8(FP), CX
	MOVQ tape+16(FP), DI
	MOVQ spaces+24(FP), R8
	MOVQ DI, R12
	XORL R9, R9
	BYTES(0x20, Y12, X12) // space
	BYTES(0x22, Y13, X13) // quote
	BYTES(0x0a, Y14, X14) // end of line
	BYTES(0x5c, Y15, X15) // backslash

block:
	VMOVDQU (SI), Y0
	VMOVDQU 32(SI), Y1

	VPCMPEQB  Y0, Y12, Y2
	VPCMPEQB  Y1, Y12, Y3
	VPMOVMSKB Y2, AX
	VPMOVMSKB Y3, DX
	SHLQ      $32, DX
	ORQ       DX, AX
	MOVQ      AX, (R8)

	VPCMPEQB  Y0, Y13, Y2
	VPCMPEQB  Y0, Y14, Y3
	VPCMPEQB  Y0, Y15, Y4
	VPCMPEQB  Y1, Y13, Y5
	VPCMPEQB  Y1, Y14, Y6
	VPCMPEQB  Y1, Y15, Y7
	VPOR      Y2, Y3, Y2
	VPOR      Y5, Y6, Y5
	VPOR      Y2, Y4, Y2
	VPOR      Y5, Y7, Y5
	VPMOVMSKB Y2, AX
	VPMOVMSKB Y5, DX
	SHLQ      $32, DX
	ORQ       DX, AX
	POPCNTQ   AX, R10

	// Eight in any case: how many there are cannot be foretold.
	EMIT(0)
	EMIT(4)
	EMIT(8)
	EMIT(12)
	EMIT(16)
	EMIT(20)
	EMIT(24)
	EMIT(28)
	LEAQ (DI)(R10*4), R13
	CMPQ R10, $8
	JA   many

next:
	MOVQ R13, DI
	ADDQ $64, SI
	ADDQ $8, R8
	ADDL $64, R9
	DECQ CX
	JNZ  block

	VZEROUPPER
	SUBQ R12, DI
	SHRQ $2, DI
	MOVQ DI, ret+32(FP)
	RET

many:
	ADDQ $32, DI

more:
	EMIT(0)
	ADDQ $4, DI
	CMPQ DI, R13
	JB   more
	JMP  next
