package site

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A time that a file has as a number is seconds, on every level, whatever its size; other options keep their numbers.
func Test60ANumberInAFileIsSeconds(t *testing.T) {
	const file = `{"id":"site-a","code":"a","name":"A","timeZone":"Europe/London","block":["10.0.0.0/8"],
		"customer":{"id":"c","name":"C","options":[%[1]s]},"options":[%[1]s],
		"networks":[{"id":"net-a","name":"A","prefix":"10.0.1.0/24","options":[%[1]s]}],
		"optionDefinitions":[{"id":"own","code":224,"name":"Wait","type":"duration"}]}`
	read := func(code int, value string) []string {
		s, err := Read(strings.NewReader(fmt.Sprintf(file, fmt.Sprintf(`{"code":%d,"value":%q}`, code, value))))
		require.NoError(t, err)
		return []string{s.Options[0].Value, s.Customer.Options[0].Value, s.Networks[0].Options[0].Value}
	}
	for _, c := range []struct {
		code        int
		value, want string
	}{{51, "120", "2 minutes"}, {51, "8", "8 seconds"}, {58, "28800", "8 hours"}, {224, "90", "1 minute 30 seconds"},
		{51, "4294967295", "forever"}, {51, "8 hours", "8 hours"}, {26, "1500", "1500"}, {2, "3600", "3600"},
		{51, "0", "0"}, {51, "4294967296", "4294967296"}} {
		assert.Equal(t, []string{c.want, c.want, c.want}, read(c.code, c.value), "%d: %s", c.code, c.value)
	}
}
