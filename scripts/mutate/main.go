// Command mutate puts small faults into a package, one at a time, and says which of them its own tests let through. The
// figures of each package are kept in docs/mutants.md.
//
//	go run ./scripts/mutate ./core/address ./core/zone
//	go run ./scripts/mutate -since main
package main

import (
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// figures is where the last figures of each package are kept.
const figures = "docs/mutants.md"

func main() {
	log.SetFlags(0)
	since := flag.String("since", "", "the packages whose files differ from this revision")
	most := flag.Int("most", 200, "of a package with more mutants, files of about as many are taken")
	seed := flag.Uint64("seed", 1, "which files those are")
	tool := flag.String("tool", "bin/tools/gremlins", "the mutation tester")
	flag.Parse()
	packages := flag.Args()
	if *since != "" {
		packages = append(packages, changed(*since)...)
	}
	if len(packages) == 0 {
		log.Fatal("name packages, for example ./core/address, or -since a revision")
	}
	kept, err := os.ReadFile(figures)
	if err != nil {
		log.Fatal(err)
	}
	text := string(kept)
	for _, p := range packages {
		p = strings.TrimPrefix(filepath.ToSlash(filepath.Clean(p)), "./")
		s := survey(*tool, p, *most, *seed, alike(text))
		fmt.Printf("%s: %d mutants, %d killed (%d by time), %d survived, %d change nothing\n", p, s.all(), s.killed,
			s.endless, len(s.survived), s.equal)
		for _, one := range s.survived {
			fmt.Println("  " + one)
		}
		text = withRow(text, p, s.row(p))
		if err := os.WriteFile(figures, []byte(text), 0o644); err != nil { // what took minutes is kept at once
			log.Fatal(err)
		}
	}
}

// changed are the packages in which files other than tests differ from a revision.
func changed(since string) []string {
	out, err := exec.Command("git", "diff", "--name-only", "--diff-filter=d", since, "--", "*.go").Output()
	if err != nil {
		log.Fatalf("git diff %s: %v", since, err)
	}
	var dirs []string
	for _, f := range strings.Fields(string(out)) {
		if !strings.HasSuffix(f, "_test.go") && !strings.Contains(f, "/gen/") {
			dirs = append(dirs, filepath.Dir(f))
		}
	}
	slices.Sort(dirs)
	return slices.Compact(dirs)
}

// report is what the mutation tester writes.
type report struct {
	Files []struct {
		Name      string `json:"file_name"`
		Mutations []struct {
			Type   string `json:"type"`
			Status string `json:"status"`
			Line   int    `json:"line"`
			Column int    `json:"column"`
		} `json:"mutations"`
	} `json:"files"`
}

// result is what became of the mutants of a package.
type result struct {
	killed, equal int
	endless       int      // of those killed: tests that did not end in time, or a machine that is too busy
	survived      []string // file:line and what was changed
	whole         bool     // no files were left out
}

func (r result) all() int { return r.killed + len(r.survived) }

// row is a package's line of the table.
func (r result) row(name string) string {
	of := "all files"
	if !r.whole {
		of = "a sample"
	}
	return fmt.Sprintf("| %s | %d | %d | %d | %d | %d | %s |", name, r.all(), r.killed, r.endless, len(r.survived),
		100*r.killed/max(r.all(), 1), of)
}

// survey runs the tester over a package, or over files of it that a seed chooses.
func survey(tool, name string, most int, seed uint64, same map[[2]string]bool) result {
	dry := run(tool, name, "--dry-run")
	count, total := map[string]int{}, 0
	for _, f := range dry.Files {
		count[f.Name] = len(f.Mutations)
		total += len(f.Mutations)
	}
	left := leftOut(count, most, seed)
	var args []string
	for _, f := range left {
		args = append(args, "--exclude-files", "(^|/)"+regexp.QuoteMeta(f)+"$")
	}
	return judge(run(tool, name, args...), name, same, len(left) == 0)
}

// leftOut are the files that a sample of about so many mutants leaves out, the same for the same seed.
func leftOut(count map[string]int, most int, seed uint64) []string {
	var names []string
	for f := range count {
		names = append(names, f)
	}
	slices.Sort(names)
	r := rand.New(rand.NewPCG(seed, seed))
	r.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
	taken := 0
	for i, f := range names {
		if taken >= most {
			return names[i:]
		}
		taken += count[f]
	}
	return nil
}

// judge counts what became of mutants. One in a file that no test runs survives, and one that never ends is killed.
func judge(r report, name string, same map[[2]string]bool, whole bool) result {
	out := result{whole: whole}
	for _, f := range r.Files {
		lines := linesOf(filepath.Join(name, f.Name))
		for _, m := range f.Mutations {
			line := ""
			if m.Line <= len(lines) {
				line = strings.TrimSpace(lines[m.Line-1])
			}
			switch {
			case m.Status == "TIMED OUT":
				out.killed++
				out.endless++
			case m.Status == "KILLED":
				out.killed++
			case m.Status == "NOT VIABLE" || m.Status == "SKIPPED":
			case same[[2]string{filepath.Join(name, f.Name), line}]:
				out.equal++
			default:
				what := strings.ToLower(strings.ReplaceAll(m.Type, "_", " "))
				out.survived = append(out.survived,
					fmt.Sprintf("%s:%d:%d: %s: %s", filepath.Join(name, f.Name), m.Line, m.Column, what, line))
			}
		}
	}
	return out
}

func linesOf(path string) []string {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	return strings.Split(string(raw), "\n")
}

// run runs the tester over a package and reads what it writes.
func run(tool, name string, args ...string) (r report) {
	out, err := os.CreateTemp("", "mutants-*.json")
	if err != nil {
		log.Fatal(err)
	}
	defer func() { _ = os.Remove(out.Name()) }()
	// Not with --test-cpu: gremlins 0.6 hands it to go test as one word, which fails, and calls each mutant killed.
	all := append([]string{"unleash", "--silent", "--workers", "2", "--timeout-coefficient", "20",
		"--output", out.Name()}, args...)
	c := exec.Command(tool, append(all, "./"+name)...)
	c.Stderr = os.Stderr
	path, err := filepath.Abs("scripts/mutate/path")
	if err != nil {
		log.Fatal(err)
	}
	c.Env = append(os.Environ(), "PATH="+path+":"+os.Getenv("PATH"))
	if err := c.Run(); err != nil {
		log.Fatalf("%s %s: %v", tool, name, err)
	}
	if err := json.NewDecoder(out).Decode(&r); err != nil {
		log.Fatalf("what %s says of %s: %v", tool, name, err)
	}
	return r
}

// alike are the mutants that change nothing observable, by file and the text of the line: the second table of the
// figures lists them with the reason.
func alike(text string) map[[2]string]bool {
	out := map[[2]string]bool{}
	for _, m := range regexp.MustCompile("(?m)^\\| (\\S+\\.go) \\| `(.+)` \\|").FindAllStringSubmatch(text, -1) {
		out[[2]string{m[1], strings.ReplaceAll(m[2], `\|`, "|")}] = true
	}
	return out
}

// withRow puts the line of a package into the table in its place, or in the place of its last one.
func withRow(text, name, row string) string {
	rows := regexp.MustCompile(`(?m)^\| \S+ (\| \d+ ){5}\|.*\n`).FindAllString(text, -1)
	for _, one := range rows {
		text = strings.Replace(text, one, "", 1)
	}
	rows = slices.DeleteFunc(rows, func(one string) bool { return strings.HasPrefix(one, "| "+name+" |") })
	rows = append(rows, row+"\n")
	slices.SortFunc(rows, func(a, b string) int { return cmp.Compare(a, b) })
	head := regexp.MustCompile(`(?m)^\| ---.*\n`).FindStringIndex(text)
	if head == nil {
		log.Fatalf("%s has no table", figures)
	}
	return text[:head[1]] + strings.Join(rows, "") + text[head[1]:]
}
