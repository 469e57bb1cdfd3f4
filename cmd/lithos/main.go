// Command lithos is Lithos whole: the server, its demonstration, and the
// commands for site files.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"syscall"
	"time"
	_ "time/tzdata" // sites have time zones, and a machine may know none

	"github.com/alecthomas/kong"

	"lithos/internal/accounts"
	"lithos/internal/store"
	"lithos/internal/work"
)

type cli struct {
	Demo     demoCommand     `cmd:"" help:"Run everything with the made-up sites: PostgreSQL, simulated devices, the server."`
	Serve    serveCommand    `cmd:"" help:"Run the server on a database."`
	Migrate  migrateCommand  `cmd:"" help:"Bring a database to this version's layout."`
	Account  accountCommand  `cmd:"" help:"Make accounts, switch them off, list and end their sessions."`
	Key      keyCommand      `cmd:"" help:"Make the key file, or accept a new one in place of a lost one."`
	Hold     holdCommand     `cmd:"" help:"Keep every push and reading from the devices until they are released."`
	Release  releaseCommand  `cmd:"" help:"Let pushes and readings go on, for example after a restore."`
	Audit    auditCommand    `cmd:"" help:"Print what was done by whom."`
	Device   deviceCommand   `cmd:"" help:"Record how a device is reached (password read from standard input)."`
	Check    checkCommand    `cmd:"" help:"Check site files; exit 1 when a finding blocks."`
	Export   exportCommand   `cmd:"" help:"Write a site's file."`
	Import   importCommand   `cmd:"" help:"Make a site file the newest revision of its site."`
	Ask      askCommand      `cmd:"" help:"Say what a name answers to somebody at the site of a file, and how."`
	Zone     zoneCommand     `cmd:"" help:"Write a zone of a site file as a zone or hosts file, or read one into it."`
	Schema   schemaCommand   `cmd:"" help:"Print the site file's JSON Schema."`
	Openapi  openapiCommand  `cmd:"" help:"Print the API's OpenAPI document."`
	Requests requestsCommand `cmd:"" name:"outside-names" help:"Print the OpenAPI document of the requests that tell outside names."`
	Options  optionsCommand  `cmd:"" help:"Print the reference of DHCP options, in Markdown."`
	Rules    rulesCommand    `cmd:"" help:"Print the reference of rules, in Markdown."`
	Standin  standinCommand  `cmd:"" help:"Simulate devices, or serve DHCP on real networks, from a site file."`
}

// database is what every command on a database is told.
type database struct {
	Database string `help:"PostgreSQL URL." env:"LITHOS_DATABASE" required:""`
	Key      string `help:"File with the key that encrypts secrets; lithos key make makes it." env:"LITHOS_KEY" default:"lithos.key" type:"path"`
}

// open connects the use cases to the database, once the key is known to be its own.
func (d database) open(ctx context.Context, connections int) (*work.Service, *store.Store, error) {
	w, s, err := d.unkeyed(ctx, connections)
	if err != nil {
		return nil, nil, err
	}
	if err := w.Accounts.UseKey(ctx); err != nil {
		s.Close()
		return nil, nil, err
	}
	return w, s, nil
}

// unkeyed is open without the look at the key.
func (d database) unkeyed(ctx context.Context, connections int) (*work.Service, *store.Store, error) {
	vault, err := accounts.OpenVault(d.Key)
	if err != nil {
		return nil, nil, err
	}
	s, err := store.Open(ctx, d.Database, connections)
	if err != nil {
		return nil, nil, err
	}
	return work.New(s, vault, logger()), s, nil
}

// with does something with the use cases and closes the database.
func (d database) with(ctx context.Context, do func(*work.Service) error) error {
	w, s, err := d.open(ctx, 0)
	if err != nil {
		return err
	}
	defer s.Close()
	return do(w)
}

func logger() *slog.Logger { return loggerFrom(slog.LevelWarn) }

func loggerFrom(level slog.Level) *slog.Logger {
	return slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
}

// errFound says that check found what blocks. It has printed it already.
var errFound = errors.New("")

// stopWithin is how long requests and work in the background may go on after the program was told to end. With what
// is closed then it ends within 20 seconds.
const stopWithin = 17 * time.Second

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := run(ctx, os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}

func run(ctx context.Context, args []string, out, errs io.Writer) int {
	var c cli
	parser, err := kong.New(&c, kong.Name("lithos"),
		kong.Description("Addressing of many sites, computed before it is pushed."),
		kong.Writers(out, errs), kong.BindTo(ctx, (*context.Context)(nil)), kong.BindTo(out, (*io.Writer)(nil)))
	if err != nil {
		fmt.Fprintln(errs, "lithos:", err)
		return 2
	}
	cmd, err := parser.Parse(args)
	if err != nil {
		fmt.Fprintln(errs, "lithos:", err)
		fmt.Fprintln(errs, "Run lithos --help for the commands and their words.")
		return 2
	}
	switch err := cmd.Run(); {
	case err == nil:
		return 0
	case errors.Is(err, errFound):
		return 1
	default:
		fmt.Fprintln(errs, "lithos:", store.ForPeople(err))
		return 2
	}
}
