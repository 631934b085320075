package scan

import "golang.org/x/sys/cpu"

// wide says whether the processor has what markWide is written in.
var wide = cpu.X86.HasAVX2 && cpu.X86.HasBMI1 && cpu.X86.HasPOPCNT

// mark notes where the quotes, backslashes and ends of lines are, and where the
// spaces; it returns how many entries of the tape it has written.
func mark(text []byte, tape []uint32, spaces []uint64) int {
	if !wide {
		return markPlain(text, tape, spaces)
	}
	blocks := len(text) / markBlock
	_, _ = tape[len(text)+7], spaces[blocks-1] // what is written to
	return markWide(&text[0], blocks, &tape[0], &spaces[0])
}

// markWide is mark for so many blocks of 64 bytes, one at least. It writes up to
// seven entries behind the last.
//
//go:noescape
func markWide(text *byte, blocks int, tape *uint32, spaces *uint64) int
