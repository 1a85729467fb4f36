//go:build !amd64

package sieve

func findBlocks(text []byte, into []spots) { findInWords(text, into) }
