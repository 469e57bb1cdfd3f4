package main

import (
	"encoding/json"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/tools/go/packages"
)

// suite is the tests of a package, built once with all its faults behind switches.
type suite struct {
	name   string // of the package, as its folder is called
	dir    string // where its test binary is, with what it was built from
	faults []fault
	tests  []test
}

// test is one of a package, with how long it takes and which faults it reaches.
type test struct {
	name    string
	takes   time.Duration
	reaches map[int]bool
}

// build writes the files of a package anew and builds its tests with them. The files themselves stay as they are.
func build(name string) *suite {
	loaded, err := packages.Load(&packages.Config{Mode: packages.LoadSyntax}, "./"+name)
	if err != nil || len(loaded) != 1 || len(loaded[0].Errors) > 0 {
		log.Fatalf("read %s: %v %v", name, err, loaded[0].Errors)
	}
	dir, err := os.MkdirTemp("", "mutants")
	if err != nil {
		log.Fatal(err)
	}
	s := &suite{name: name, dir: dir}
	p, instead := loaded[0], map[string]string{}
	put := func(for_, text string) {
		to := filepath.Join(dir, filepath.Base(for_))
		if err := os.WriteFile(to, []byte(text), 0o600); err != nil {
			log.Fatal(err)
		}
		instead[for_] = to
	}
	for i, f := range p.Syntax {
		path := p.CompiledGoFiles[i]
		source, err := os.ReadFile(path)
		if err != nil {
			log.Fatal(err)
		}
		w := writer{source, strings.Split(string(source), "\n"), p.Fset, p.TypesInfo, filepath.Base(path), &s.faults}
		put(path, string(w.whole(f)))
	}
	put(filepath.Join(filepath.Dir(p.CompiledGoFiles[0]), "zz_switches.go"), fmt.Sprintf(switches, p.Name))
	overlay, err := json.Marshal(map[string]any{"Replace": instead})
	if err != nil {
		log.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o600); err != nil {
		log.Fatal(err)
	}
	c := exec.Command("go", "test", "-c", "-vet=off", "-overlay", filepath.Join(dir, "overlay.json"),
		"-o", s.binary(), "./"+name)
	if out, err := c.CombinedOutput(); err != nil {
		log.Fatalf("build the tests of %s: %v\n%s", name, err, out)
	}
	return s
}

func (s *suite) binary() string { return filepath.Join(s.dir, "mutants.test") }

// close removes what was built.
func (s *suite) close() { _ = os.RemoveAll(s.dir) }

// run runs some tests of the package and reports whether they pass.
func (s *suite) run(limit time.Duration, environment string, args ...string) (out string, passed bool) {
	c := exec.Command(s.binary(), append(args, "-test.timeout", limit.String())...)
	c.Dir, c.Env = s.name, append(os.Environ(), environment)
	raw, err := c.CombinedOutput()
	return string(raw), err == nil
}

// isTest is how what go test runs is called.
var isTest = regexp.MustCompile(`^(Test|Fuzz|Example)`)

// measure runs each test by itself, without a fault: how long it takes and what it reaches.
func (s *suite) measure() {
	list, _ := s.run(time.Minute, "FAULT=0", "-test.list", ".")
	for _, name := range strings.Fields(list) {
		if !isTest.MatchString(name) {
			continue
		}
		reached := filepath.Join(s.dir, "reached")
		_ = os.Remove(reached)
		began := time.Now()
		if out, passed := s.run(10*time.Minute, "FAULTS_REACHED="+reached, "-test.run", "^"+name+"$"); !passed {
			log.Fatalf("%s of %s fails without a fault:\n%s", name, s.name, out)
		}
		t := test{name, time.Since(began), map[int]bool{}}
		raw, _ := os.ReadFile(reached) // a test that reaches none writes none
		for _, word := range strings.Fields(string(raw)) {
			if number, err := strconv.Atoi(word); err == nil {
				t.reaches[number] = true
			}
		}
		s.tests = append(s.tests, t)
	}
	slices.SortFunc(s.tests, func(a, b test) int { return int(a.takes - b.takes) })
}

// together is how long tests may take that are run in one go; whatever takes longer is run by itself.
const together = 2 * time.Second

// notices reports whether a test notices a fault, the quickest first. endless is that one did not end in time.
func (s *suite) notices(f fault) (noticed, endless bool) {
	var names []string
	var takes time.Duration
	try := func() bool {
		limit := 10*takes + 10*time.Second
		began := time.Now()
		_, passed := s.run(limit, "FAULT="+strconv.Itoa(f.number), "-test.failfast", "-test.run",
			"^("+strings.Join(names, "|")+")$")
		names, takes, endless = nil, 0, !passed && time.Since(began) >= limit
		return !passed
	}
	for _, t := range s.tests {
		if !t.reaches[f.number] {
			continue
		}
		if len(names) > 0 && takes+t.takes > together && try() {
			return true, endless
		}
		names, takes = append(names, t.name), takes+t.takes
	}
	return len(names) > 0 && try(), endless
}

// reached reports whether any test runs the line of a fault.
func (s *suite) reached(f fault) bool {
	return slices.ContainsFunc(s.tests, func(t test) bool { return t.reaches[f.number] })
}
