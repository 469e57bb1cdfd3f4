package api

import (
	"encoding/json"
	"errors"
	"io"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"lithos/core/site"
)

// textJSON is JSON whose text can be kept and shown: see CheckJSON.
var textJSON = huma.Format{
	Marshal: func(w io.Writer, v any) error {
		enc := json.NewEncoder(w)
		enc.SetEscapeHTML(false)
		return enc.Encode(v)
	},
	Unmarshal: func(data []byte, v any) error {
		if err := CheckJSON(data); err != nil {
			return err
		}
		return json.Unmarshal(data, v)
	},
}

var (
	errNotUTF8 = errors.New("the request holds octets that are not UTF-8; send it as UTF-8")
	errControl = errors.New("the request holds a control character; leave it out")

	errDirection = errors.New("the request holds a character that turns the direction of text around; leave it out")
)

// CheckJSON refuses a JSON text that is not UTF-8, or whose strings hold control
// characters other than tabs and line breaks, or halves of surrogate pairs, which
// decoding would replace unseen.
func CheckJSON(data []byte) error {
	if !utf8.Valid(data) {
		return errNotUTF8
	}
	for i := 0; i < len(data); i++ {
		if data[i] == 0x7f || data[i] == 0xc2 && data[i+1] < 0xa0 { // DEL, and C1 in UTF-8
			return errControl
		}
		if data[i] == 0xe2 { // a direction mark, in UTF-8
			if r, _ := utf8.DecodeRune(data[i:]); site.TurnsAround(r) {
				return errDirection
			}
		}
		if data[i] != '\\' || i+1 == len(data) {
			continue
		}
		i++
		octets, err := checkEscape(data[i:])
		if err != nil {
			return err
		}
		i += octets
	}
	return nil
}

// checkEscape looks at an escape of JSON, from behind its backslash. more is how many octets it has behind its letter.
func checkEscape(data []byte) (more int, err error) {
	switch data[0] {
	case 'b', 'f':
		return 0, errControl
	case 'u':
	default:
		return 0, nil
	}
	r, ok := escaped(data[1:])
	switch {
	case !ok:
		return 0, nil // the decoder says so
	case r < 0x20 && r != '\t' && r != '\n' && r != '\r', r >= 0x7f && r < 0xa0:
		return 0, errControl
	case site.TurnsAround(r):
		return 0, errDirection
	case !utf16.IsSurrogate(r):
		return 4, nil
	}
	low, ok := rune(0), false
	if len(data) > 6 && data[5] == '\\' && data[6] == 'u' {
		low, ok = escaped(data[7:])
	}
	if !ok || utf16.DecodeRune(r, low) == utf8.RuneError {
		return 0, errNotUTF8
	}
	return 10, nil
}

// escaped reads the four hex digits of an escape.
func escaped(data []byte) (rune, bool) {
	if len(data) < 4 {
		return 0, false
	}
	n, err := strconv.ParseUint(string(data[:4]), 16, 16)
	return rune(n), err == nil
}
