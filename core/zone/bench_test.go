package zone

import (
	"bufio"
	"bytes"
	"fmt"
	"testing"
	"time"
)

// BenchmarkParse times reading a zone of 100,000 records against reading its octets line by line.
func BenchmarkParse(b *testing.B) {
	var file bytes.Buffer
	file.WriteString("$ORIGIN large.example.\n$TTL 3600\n")
	file.WriteString("@ IN SOA ns.large.example. host.large.example. ( 1 2 3 4 5 )\n")
	for i := range 100_000 {
		fmt.Fprintf(&file, "host-%d IN A 10.%d.%d.%d\n", i, i>>16, i>>8&255, i&255)
	}
	raw := file.Bytes()
	lines := func() int {
		n := 0
		for s := bufio.NewScanner(bytes.NewReader(raw)); s.Scan(); {
			n += len(s.Text())
		}
		return n
	}
	for b.Loop() {
		f, err := Parse(bytes.NewReader(raw), "large.example")
		if err != nil || len(f.Records) != 100_000 {
			b.Fatal(err, len(f.Records))
		}
	}
	took := float64(b.Elapsed()) / float64(b.N)
	const rounds = 20
	began := time.Now()
	for range rounds {
		lines()
	}
	b.ReportMetric(took/(float64(time.Since(began))/rounds), "x-lines")
}
