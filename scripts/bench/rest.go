package main

import (
	"bufio"
	"context"
	"fmt"
	"log"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Nobody looks at the demonstration while it is measured: once settled, for turns of a minute, each a figure.
const (
	settles = 2 * time.Minute
	turn    = time.Minute
	turns   = 5
)

// atRest starts the demonstration with a data folder of its own and measures what it costs while nobody looks.
func atRest() []measured {
	dir, err := os.MkdirTemp("", "bench-rest")
	if err != nil {
		log.Fatal(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := os.Chmod(dir, 0o755); err != nil { // as root, the account postgres has to reach its cluster
		log.Fatal(err)
	}
	const listen = "127.0.0.1:8298"
	demo := exec.Command("bin/lithos", "demo", "--data", filepath.Join(dir, "demo"), "--listen", listen)
	demo.Stderr = os.Stderr
	if err := demo.Start(); err != nil {
		log.Fatalf("start the demonstration: %v; make bin/lithos first", err)
	}
	defer func() {
		_ = demo.Process.Signal(syscall.SIGTERM)
		_ = demo.Wait()
	}()
	answers("http://" + listen)
	db, postmaster := cluster(filepath.Join(dir, "demo", "postgres"))
	out := []measured{
		{row: row{what: "the demonstration at rest, of a core", unit: "%", goal: 1}},
		{row: row{what: "its PostgreSQL, of a core", unit: "%", goal: 1}},
		{row: row{what: "what it writes ahead in its log", unit: "MB a day", goal: 200}},
	}
	time.Sleep(settles)
	for range turns {
		lithos, pg, wal := cpu(demo.Process.Pid), cpu(family(postmaster)...), written(db)
		time.Sleep(turn)
		const percent = 100 / float64(turn/time.Second)
		out[0].figures = append(out[0].figures, percent*(cpu(demo.Process.Pid)-lithos))
		out[1].figures = append(out[1].figures, percent*max(0, cpu(family(postmaster)...)-pg))
		out[2].figures = append(out[2].figures, float64(24*time.Hour/turn)*(written(db)-wal)/1e6)
	}
	for i := range out {
		slices.Sort(out[i].figures)
		fmt.Println(out[i].line())
	}
	return out
}

// answers waits until a server does.
func answers(address string) {
	for until := time.Now().Add(3 * time.Minute); time.Now().Before(until); time.Sleep(time.Second) {
		if r, err := http.Get(address); err == nil {
			_ = r.Body.Close()
			return
		}
	}
	log.Fatalf("nothing answers at %s", address)
}

// cluster is a connection to the demonstration's database, and the process that all of its PostgreSQL comes from.
func cluster(dir string) (*pgx.Conn, int) {
	password, err := os.ReadFile(filepath.Join(dir, "password"))
	if err != nil {
		log.Fatal(err)
	}
	raw, err := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
	if err != nil {
		log.Fatal(err)
	}
	lines := strings.Split(string(raw), "\n") // the process, the folder, when it began, the port
	pid, err := strconv.Atoi(lines[0])
	if err != nil || len(lines) < 4 {
		log.Fatalf("postmaster.pid says %q", raw)
	}
	at := url.URL{Scheme: "postgres", User: url.UserPassword("lithos", strings.TrimSpace(string(password))),
		Host: "127.0.0.1:" + lines[3], Path: "/lithos"}
	db, err := pgx.Connect(context.Background(), at.String())
	if err != nil {
		log.Fatal(err)
	}
	return db, pid
}

// written is how many octets the database has written ahead in its log since it was made.
func written(db *pgx.Conn) (octets float64) {
	const sql = "SELECT (pg_current_wal_lsn() - '0/0')::float8"
	if err := db.QueryRow(context.Background(), sql).Scan(&octets); err != nil {
		log.Fatal(err)
	}
	return octets
}

// family is a process and its children.
func family(pid int) []int {
	out := []int{pid}
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	if err != nil {
		return out
	}
	words := bufio.NewScanner(strings.NewReader(string(raw)))
	words.Split(bufio.ScanWords)
	for words.Scan() {
		if child, err := strconv.Atoi(words.Text()); err == nil {
			out = append(out, child)
		}
	}
	return out
}

// cpu is how many seconds of a processor processes have had.
func cpu(pids ...int) (seconds float64) {
	const ticks = 100 // a second, of /proc (sysconf(_SC_CLK_TCK))
	for _, pid := range pids {
		raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			continue // it has ended
		}
		// The name, in brackets, may hold anything; user and system time are the 12th and 13th word after it.
		words := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
		for _, w := range words[11:13] {
			n, _ := strconv.ParseFloat(w, 64)
			seconds += n / ticks
		}
	}
	return seconds
}
