//go:build !unix

package server

func maxOpen() uint64 { return 0 }
