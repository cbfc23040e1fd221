package cli

import (
	"strings"
	"unicode/utf8"

	"vividstrain/core/logbook"
)

// keyNotes takes notes by single keys while a climb goes on in a terminal.
type keyNotes struct {
	add  func(logbook.Remark)
	show func(text string) // shows what is being typed; empty when it ends

	typing bool
	text   []byte
}

// press handles one key.
func (k *keyNotes) press(key byte) {
	if k.typing {
		k.typed(key)
		return
	}
	switch key {
	case 's':
		k.add(logbook.Remark{Kind: logbook.Stutter})
	case 'p':
		k.add(logbook.Remark{Kind: logbook.Picture})
	case 'n':
		k.typing, k.text = true, nil
		k.show("note: ")
	}
}

// maxTyped is the longest note.
const maxTyped = 500

// typed handles a key while a note is being typed.
func (k *keyNotes) typed(key byte) {
	switch {
	case key == '\r' || key == '\n':
		k.typing = false
		k.show("")
		if text := strings.TrimSpace(string(k.text)); text != "" && utf8.ValidString(text) {
			k.add(logbook.Remark{Kind: logbook.Note, Text: text})
		}
		return
	case key == 27: // escape: no note
		k.typing = false
		k.show("")
		return
	case key == 127 || key == 8:
		_, size := utf8.DecodeLastRune(k.text)
		k.text = k.text[:len(k.text)-size]
	case key >= ' ' && len(k.text) < maxTyped:
		k.text = append(k.text, key)
	}
	k.show("note: " + string(k.text))
}
