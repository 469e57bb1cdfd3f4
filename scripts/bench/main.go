// Command bench measures what Lithos promises, each figure until its median stands still, and writes the table of
// docs/operating.md. It fails where a goal is missed by more than the figures scatter.
//
//	go run ./scripts/bench                 all of it
//	go run ./scripts/bench core/edit rest  these packages, and the demonstration at rest
package main

import (
	"bufio"
	"flag"
	"fmt"
	"log"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

// page is where the table stands, between two marks.
const page = "docs/operating.md"

const (
	fewest = 5    // runs that a median needs
	most   = 15   // runs after which it is taken as it is
	still  = 0.03 // a median stands still when one more run moves it by no more than this part of it
)

func main() {
	log.SetFlags(0)
	benchtime := flag.String("benchtime", "1s", "how long go test repeats a benchmark in a run")
	flag.Parse()
	asked := func(pkg string) bool { return flag.NArg() == 0 || slices.Contains(flag.Args(), pkg) }
	var all []measured
	for _, pkg := range packages() {
		if asked(pkg) {
			all = append(all, measure(pkg, *benchtime)...)
		}
	}
	if asked("rest") {
		all = append(all, atRest()...)
	}
	if flag.NArg() == 0 {
		write(all)
	}
	missed := 0
	for _, m := range all {
		if m.missed() {
			missed++
			fmt.Println("missed:", m.line())
		}
	}
	if missed > 0 {
		log.Fatalf("%d of %d goals are missed by more than the figures scatter", missed, len(all))
	}
}

// packages are those of the rows, each once.
func packages() []string {
	var out []string
	for _, r := range rows {
		out = append(out, r.pkg)
	}
	return slices.Compact(out)
}

// measured is a row with the figures of its runs, in rising order.
type measured struct {
	row
	figures []float64
}

func (m measured) quartile(of4 int) float64 { return m.figures[(len(m.figures)-1)*of4/4] }

// missed reports whether the better quartile of the figures still misses the goal.
func (m measured) missed() bool {
	if m.least {
		return m.quartile(3) < m.goal
	}
	return m.goal > 0 && m.quartile(1) > m.goal
}

// line is the row of the table: what, the median, the middle half of the figures, the goal and whether it is met.
func (m measured) line() string {
	goal, met := "", ""
	if m.goal > 0 {
		goal, met = "at most "+number(m.goal), "yes"
		if m.least {
			goal = "at least " + number(m.goal)
		}
		if median := m.quartile(2); median > m.goal != m.least && median != m.goal {
			met = "within the scatter"
		}
		if m.missed() {
			met = "**no**"
		}
	}
	return fmt.Sprintf("| %s | %s | %s to %s | %s | %s |", m.what,
		strings.TrimSpace(number(m.quartile(2))+" "+m.unit), number(m.quartile(1)), number(m.quartile(3)), goal, met)
}

// number has three digits that count.
func number(f float64) string {
	if f == 0 {
		return "0"
	}
	digits := max(0, 2-int(math.Floor(math.Log10(math.Abs(f)))))
	text := strconv.FormatFloat(f, 'f', digits, 64)
	if strings.Contains(text, ".") {
		text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
	}
	return text
}

// measure runs the benchmarks of a package until the medians of all its rows stand still.
func measure(pkg, benchtime string) []measured {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		log.Fatal(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	binary := filepath.Join(dir, "bench.test")
	if out, err := exec.Command("go", "test", "-c", "-o", binary, "./"+pkg).CombinedOutput(); err != nil {
		log.Fatalf("build the benchmarks of %s: %v\n%s", pkg, err, out)
	}
	var out []measured
	for _, r := range rows {
		if r.pkg == pkg {
			out = append(out, measured{row: r})
		}
	}
	for turn := 0; turn < most && (turn < fewest || !allStill(out)); turn++ {
		c := exec.Command(binary, "-test.run", "^$", "-test.bench", "^("+strings.Join(benchmarks(out), "|")+")$",
			"-test.benchtime", benchtime, "-test.timeout", "20m")
		c.Dir, c.Stderr = pkg, os.Stderr
		text, err := c.Output()
		if err != nil {
			log.Fatalf("benchmarks of %s: %v\n%s", pkg, err, text)
		}
		got := figures(string(text))
		for i := range out {
			f, err := out[i].from(got)
			if err != nil {
				log.Fatal(err)
			}
			out[i].figures = append(out[i].figures, f)
		}
	}
	for i := range out {
		slices.Sort(out[i].figures)
		fmt.Println(out[i].line())
	}
	return out
}

// benchmarks are the functions that rows need, without what they run inside.
func benchmarks(all []measured) []string {
	var out []string
	for _, m := range all {
		name, _, _ := strings.Cut(m.figure.bench, "/")
		out = append(out, "Benchmark"+name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// allStill reports whether the last run left every median about where it was.
func allStill(all []measured) bool {
	return !slices.ContainsFunc(all, func(m measured) bool {
		now, before := median(m.figures), median(m.figures[:len(m.figures)-1])
		return math.Abs(now-before) > still*math.Abs(before)
	})
}

func median(figures []float64) float64 {
	sorted := slices.Sorted(slices.Values(figures))
	return sorted[(len(sorted)-1)/2]
}

// from is the row's figure in what a run printed.
func (r row) from(got map[source]float64) (float64, error) {
	f, ok := got[r.figure]
	if !ok {
		return 0, fmt.Errorf("%s prints no %s of %s", r.pkg, r.figure.unit, r.figure.bench)
	}
	if r.per.bench == "" {
		return f, nil
	}
	by := got[r.per]
	if by == 0 {
		return 0, fmt.Errorf("%s prints no %s of %s", r.pkg, r.per.unit, r.per.bench)
	}
	return f / by, nil
}

// processors is the number that go test puts after the name of a benchmark.
var processors = regexp.MustCompile(`-\d+$`)

// figures reads what benchmarks print: a name, how often it ran, and pairs of a figure and its unit.
func figures(text string) map[source]float64 {
	out := map[source]float64{}
	for lines := bufio.NewScanner(strings.NewReader(text)); lines.Scan(); {
		words := strings.Fields(lines.Text())
		if len(words) < 4 || !strings.HasPrefix(words[0], "Benchmark") {
			continue
		}
		name := processors.ReplaceAllString(strings.TrimPrefix(words[0], "Benchmark"), "")
		for i := 2; i+1 < len(words); i += 2 {
			if f, err := strconv.ParseFloat(words[i], 64); err == nil {
				out[source{name, words[i+1]}] = f
			}
		}
	}
	return out
}

const begins, ends = "<!-- make bench writes from here -->\n", "<!-- to here -->\n"

// write puts the table into the page, with the machine and the commit it was measured at.
func write(all []measured) {
	raw, err := os.ReadFile(page)
	if err != nil {
		log.Fatal(err)
	}
	text, err := replaced(string(raw), table(all, machine(), commit(), time.Now()))
	if err != nil {
		log.Fatal(err)
	}
	if err := os.WriteFile(page, []byte(text), 0o644); err != nil {
		log.Fatal(err)
	}
}

func replaced(text, table string) (string, error) {
	head, rest, ok := strings.Cut(text, begins)
	_, tail, closed := strings.Cut(rest, ends)
	if !ok || !closed {
		return "", fmt.Errorf("%s has no place for the table; put %q and %q around one", page, begins, ends)
	}
	return head + begins + table + ends + tail, nil
}

func table(all []measured, machine, commit string, day time.Time) string {
	var b strings.Builder
	fmt.Fprintf(&b, "\nMeasured on %s, at commit %s, on %s.\n\n", day.Format(time.DateOnly), commit, machine)
	b.WriteString("| what | median | middle half | goal | met |\n|---|---|---|---|---|\n")
	for _, m := range all {
		b.WriteString(m.line() + "\n")
	}
	b.WriteString("\n")
	return b.String()
}

// machine is the processor and how many of it there are.
func machine() string {
	raw, err := os.ReadFile("/proc/cpuinfo")
	if err != nil {
		return fmt.Sprintf("%d processors", runtime.NumCPU())
	}
	name := regexp.MustCompile(`(?m)^model name\s*: (.*)$`).FindStringSubmatch(string(raw))
	if name == nil {
		return fmt.Sprintf("%d processors", runtime.NumCPU())
	}
	return fmt.Sprintf("%d cores of %s", runtime.NumCPU(), name[1])
}

func commit() string {
	out, err := exec.Command("git", "describe", "--always", "--dirty").Output()
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(out))
}
