package wired

import "testing"

// Whatever a frame holds, it is read without a panic.
func FuzzARP(f *testing.F) {
	reply := make([]byte, arpLength)
	reply[4], reply[5], reply[arpOp+1] = 6, 4, arpIsReply
	f.Add(reply)
	f.Fuzz(func(t *testing.T, frame []byte) {
		if by, a, ok := readARP(frame); ok && (!a.Is4() || len(by) != 6) {
			t.Fatalf("%s at %s", by, a)
		}
	})
}
