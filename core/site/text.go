package site

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// CheckText refuses text of one line that cannot be kept or shown: octets that are
// not UTF-8, control characters, and characters that turn the direction of what
// follows around, so that a name reads as another.
func CheckText(s string) error {
	if !utf8.ValidString(s) {
		return errors.New("holds octets that are not UTF-8; type it again")
	}
	for _, r := range s {
		switch {
		case r == '\n' || r == '\r':
			return errors.New("holds a line break; write it on one line")
		case unicode.IsControl(r):
			return errors.New("holds a control character; leave it out")
		case TurnsAround(r), r == 0x2028, r == 0x2029:
			return errors.New("holds a character that turns its direction around or breaks the line; leave it out")
		}
	}
	return nil
}

// TurnsAround reports whether a character turns the direction of what follows around, or ends that (Unicode Standard
// Annex 9, section 2): text with one reads as another.
func TurnsAround(r rune) bool { return r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 }

// Printable is text from outside as it can be kept and shown on one line: UTF-8,
// without control characters and direction marks, of at most that many octets.
func Printable(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || TurnsAround(r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "\uFFFD"))
	return strings.ToValidUTF8(s[:min(len(s), most)], "")
}

// Counted is a number with its noun: "1 network", "2 networks", "3 addresses".
func Counted(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	if strings.HasSuffix(one, "s") {
		one += "e"
	}
	return fmt.Sprintf("%d %ss", n, one)
}
