package sieve

import "golang.org/x/sys/cpu"

// findBlocks finds the spots of a text of 64 bytes per element of into, plus one
// byte.
func findBlocks(text []byte, into []spots) {
	if cpu.X86.HasAVX2 {
		findAVX2(&text[0], &into[0], len(into))
	} else {
		findInWords(text, into)
	}
}

// findAVX2 finds the spots of 64*n bytes with the 32-byte registers of AVX2
// (Intel 64 and IA-32 Architectures Software Developer's Manual, volume 2). It
// reads one byte more.
//
//go:noescape
func findAVX2(text *byte, into *spots, n int)
