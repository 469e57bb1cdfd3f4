// Command mutate puts small faults into a package, one at a time, and says which of them its own tests let through. The
// figures of each package are kept in docs/mutants.md.
//
//	go run ./scripts/mutate ./core/address ./core/zone
//	go run ./scripts/mutate -since main
package main

import (
	"cmp"
	"flag"
	"fmt"
	"log"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// figures is where the last figures of each package are kept.
const figures = "docs/mutants.md"

func main() {
	log.SetFlags(0)
	since := flag.String("since", "", "the packages whose files differ from this revision")
	most := flag.Int("most", 200, "of a package with more faults, as many are taken")
	seed := flag.Uint64("seed", 1, "which those are")
	workers := flag.Int("workers", 2, "how many faults are tried at once")
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
		r := survey(p, *most, *seed, *workers, alike(text))
		fmt.Printf("%s: %d faults, %d noticed (%d by time), %d not, %d change nothing\n", p, r.all(), r.killed,
			r.endless,
			len(r.survived), r.equal)
		for _, file := range slices.Sorted(maps.Keys(r.files)) {
			n := r.files[file]
			fmt.Printf("  %s: %d of %d\n", file, n.noticed, n.all)
		}
		for _, one := range r.survived {
			fmt.Println("  " + one)
		}
		keep(p, r.row(p)) // what took minutes is kept at once
	}
}

// keep puts the line of a package into the figures as they are now: another run may have added its own meanwhile.
func keep(name, row string) {
	text, err := os.ReadFile(figures)
	if err == nil {
		err = os.WriteFile(figures, []byte(withRow(string(text), name, row)), 0o644)
	}
	if err != nil {
		log.Fatal(err)
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

// result is what became of the mutants of a package.
type result struct {
	killed, equal int
	endless       int      // of those killed: tests that did not end in time, or a machine that is too busy
	survived      []string // file:line and what was changed
	whole         bool     // no files were left out
	files         map[string]counted
}

// counted is how many faults of a file were noticed.
type counted struct{ noticed, all int }

func (r result) all() int { return r.killed + len(r.survived) }

// row is a package's line of the table.
func (r result) row(name string) string {
	of := "all"
	if !r.whole {
		of = "a sample"
	}
	return fmt.Sprintf("| %s | %d | %d | %d | %d | %d | %s |", name, r.all(), r.killed, r.endless, len(r.survived),
		100*r.killed/max(r.all(), 1), of)
}

// survey tries the faults of a package, or as many as a seed chooses.
func survey(name string, most int, seed uint64, workers int, same map[[2]string]bool) result {
	s := build(name)
	defer s.close()
	s.measure()
	chosen := sample(s.faults, most, seed)
	out := result{whole: len(chosen) == len(s.faults)}
	var mu sync.Mutex
	var group sync.WaitGroup
	next := make(chan fault)
	for range workers {
		group.Go(func() {
			for f := range next {
				noticed, endless := s.notices(f)
				mu.Lock()
				out.count(f, filepath.Join(name, f.file), noticed, endless, s.reached(f), same)
				mu.Unlock()
			}
		})
	}
	for _, f := range chosen {
		next <- f
	}
	close(next)
	group.Wait()
	slices.Sort(out.survived)
	return out
}

// sample are as many faults as asked for, in their order, the same for the same seed.
func sample(all []fault, most int, seed uint64) []fault {
	if len(all) <= most {
		return all
	}
	var out []fault
	for _, i := range rand.New(rand.NewPCG(seed, seed)).Perm(len(all))[:most] {
		out = append(out, all[i])
	}
	slices.SortFunc(out, func(a, b fault) int { return a.number - b.number })
	return out
}

// count adds what became of a fault. One that changes nothing counts neither way, unless a test notices it.
func (r *result) count(f fault, path string, noticed, endless, reached bool, same map[[2]string]bool) {
	of := r.files[f.file]
	switch {
	case noticed:
		of.noticed++
		of.all++
		r.killed++
		if endless {
			r.endless++
		}
	case same[[2]string{path, f.text}]:
		r.equal++
	default:
		of.all++
		says := fmt.Sprintf("%s:%d: %s", path, f.line, f.what)
		if !reached {
			says += ", which no test runs"
		}
		r.survived = append(r.survived, says+": "+f.text)
	}
	if r.files == nil {
		r.files = map[string]counted{}
	}
	r.files[f.file] = of
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
