package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"lithos/internal/accounts"
	"lithos/internal/work"
)

type accountCommand struct {
	Set      accountSet      `cmd:"" help:"Make an account, or change its name and password (read from standard input)."`
	List     accountList     `cmd:"" help:"List the accounts."`
	Off      accountOff      `cmd:"" help:"Switch an account off; its sessions end."`
	On       accountOn       `cmd:"" help:"Switch an account on again."`
	Sessions accountSessions `cmd:"" help:"List sessions."`
	End      accountEnd      `cmd:"" help:"End the sessions of an account."`
}

type accountSet struct {
	database
	Name     string `arg:"" help:"Name to sign in with."`
	FullName string `arg:"" help:"Full name, for the history."`
}

// Run reads the password from standard input, so that it stands in no history.
func (c *accountSet) Run(ctx context.Context) error {
	password, err := firstLine(os.Stdin)
	if err != nil {
		return err
	}
	return c.with(ctx, func(w *work.Service) error {
		_, err := w.Accounts.PutTechnician(ctx, operator(), c.Name, c.FullName, password)
		return err
	})
}

func firstLine(r io.Reader) (string, error) {
	line, err := bufio.NewReader(io.LimitReader(r, 1000)).ReadString('\n')
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		return "", fmt.Errorf("no password on standard input: %w", err)
	}
	return line, nil
}

type accountList struct{ database }

// Run lists the accounts.
func (c *accountList) Run(ctx context.Context, out io.Writer) error {
	return c.with(ctx, func(w *work.Service) error {
		accounts, err := w.Accounts.Accounts(ctx)
		if err != nil {
			return err
		}
		return table(out, func(line func(...any)) {
			line("NAME", "FULL NAME", "SESSIONS", "STATE")
			for _, a := range accounts {
				state := "on"
				if a.Off != nil {
					state = "off since " + stamp(*a.Off)
				}
				line(a.Name, a.FullName, a.Sessions, state)
			}
		})
	})
}

type accountOff struct {
	database
	Name string `arg:"" help:"Name of the account."`
}

// Run switches it off.
func (c *accountOff) Run(ctx context.Context) error {
	return c.with(ctx, func(w *work.Service) error { return w.Accounts.SwitchAccount(ctx, operator(), c.Name, true) })
}

type accountOn struct {
	database
	Name string `arg:"" help:"Name of the account."`
}

// Run switches it on.
func (c *accountOn) Run(ctx context.Context) error {
	return c.with(ctx, func(w *work.Service) error { return w.Accounts.SwitchAccount(ctx, operator(), c.Name, false) })
}

type accountSessions struct {
	database
	Name string `arg:"" optional:"" help:"Name of the account; all when left out."`
}

// Run lists them.
func (c *accountSessions) Run(ctx context.Context, out io.Writer) error {
	return c.with(ctx, func(w *work.Service) error {
		sessions, err := w.Accounts.Sessions(ctx, c.Name)
		if err != nil {
			return err
		}
		return table(out, func(line func(...any)) {
			line("ACCOUNT", "SINCE", "UNTIL", "FROM", "BROWSER")
			for _, s := range sessions {
				line(s.Account, stamp(s.Since), stamp(s.Until), s.Source, s.Agent)
			}
		})
	})
}

type accountEnd struct {
	database
	Name string `arg:"" help:"Name of the account."`
}

// Run ends them.
func (c *accountEnd) Run(ctx context.Context) error {
	return c.with(ctx, func(w *work.Service) error { return w.Accounts.EndSessions(ctx, operator(), c.Name) })
}

type keyCommand struct {
	Make   keyMake   `cmd:"" help:"Make the key file of a new installation."`
	Forget keyForget `cmd:"" help:"Accept this key file in place of a lost one; every password sealed with that is forgotten."`
}

type keyMake struct {
	Key string `help:"Where to make it." env:"LITHOS_KEY" default:"lithos.key" type:"path"`
}

// Run makes it.
func (c *keyMake) Run() error { return accounts.MakeKey(c.Key) }

type keyForget struct{ database }

// Run forgets what was sealed with the lost key.
func (c *keyForget) Run(ctx context.Context, out io.Writer) error {
	w, s, err := c.unkeyed(ctx, 0)
	if err != nil {
		return err
	}
	defer s.Close()
	n, err := w.Accounts.ForgetKey(ctx, operator())
	if err == nil {
		fmt.Fprintf(out,
			"%d passwords are forgotten; give devices theirs again with lithos device, lines on their interfaces\n", n)
	}
	return err
}

type holdCommand struct {
	database
	Reason string `arg:"" optional:"" help:"Why, for everybody to read." default:"Held on purpose"`
}

// Run holds.
func (c *holdCommand) Run(ctx context.Context, out io.Writer) error {
	return c.with(ctx, func(w *work.Service) error {
		err := w.Accounts.HoldWork(ctx, operator(), c.Reason)
		if err == nil {
			fmt.Fprintln(out, "pushes and readings are held; lithos release lets them go on")
		}
		return err
	})
}

type releaseCommand struct{ database }

// Run releases.
func (c *releaseCommand) Run(ctx context.Context, out io.Writer) error {
	return c.with(ctx, func(w *work.Service) error {
		was, err := w.Accounts.ReleaseWork(ctx, operator())
		if err != nil {
			return err
		}
		says := "nothing was held"
		if was {
			says = "pushes and readings go on"
		}
		fmt.Fprintln(out, says)
		return nil
	})
}

type auditCommand struct {
	database
	Since time.Duration `help:"How far back." default:"720h"`
	Act   string        `help:"Only this act, for example sign-in-refused or push-landed."`
	About string        `help:"Only about this: a work order (WO-0001), a site's code, an account."`
	Who   string        `help:"Only by those whose name holds this."`
	Most  int32         `help:"At most so many lines, the newest." default:"1000"`
}

// Run prints, the newest last.
func (c *auditCommand) Run(ctx context.Context, out io.Writer) error {
	return c.with(ctx, func(w *work.Service) error {
		lines, err := w.Accounts.Audited(ctx, time.Now().Add(-c.Since), c.Act, c.About, c.Who, c.Most)
		if err != nil {
			return err
		}
		return table(out, func(line func(...any)) {
			line("AT", "WHO", "FROM", "ACT", "ABOUT", "")
			for i := len(lines) - 1; i >= 0; i-- {
				l := lines[i]
				line(stamp(l.At), l.Who, l.Source, l.Act, l.About, l.Says)
			}
		})
	})
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05Z") }

// table prints lines in columns.
func table(out io.Writer, fill func(line func(...any))) error {
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	fill(func(cells ...any) {
		words := make([]string, len(cells))
		for i, c := range cells {
			words[i] = fmt.Sprint(c)
		}
		fmt.Fprintln(w, strings.TrimRight(strings.Join(words, "\t"), "\t"))
	})
	return w.Flush()
}
