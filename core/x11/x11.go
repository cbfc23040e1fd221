// Package x11 is what reading a screen and drawing on it share: a connection to an X server with shared
// memory (X Window System Protocol; The MIT Shared Memory Extension; RandR 1.2).
// It is for Linux; elsewhere it can do nothing.
package x11
