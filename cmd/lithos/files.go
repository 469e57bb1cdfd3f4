package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/user"
	"strings"
	"time"

	"lithos/core/check"
	"lithos/core/site"
	"lithos/internal/api"
	"lithos/internal/standin/internet"
)

type checkCommand struct {
	JSON  bool     `help:"Print the findings as JSON."`
	Files []string `arg:"" name:"FILE" help:"Site files, JSON or YAML; - for standard input."`
}

// result is what check says of one file.
type result struct {
	File     string          `json:"file"`
	Site     string          `json:"site,omitempty"`
	Error    []string        `json:"error,omitempty"` // why the file cannot be read
	Findings []check.Finding `json:"findings"`
}

// Run checks each file. The program's exit code is 1 when a finding blocks or
// a file cannot be read.
func (c *checkCommand) Run(out io.Writer) error {
	results := []result{}
	bad := false
	for _, file := range c.Files {
		r := result{File: file, Findings: []check.Finding{}}
		doc, err := readSite(file)
		if err != nil {
			r.Error = strings.Split(err.Error(), "\n")
			bad = true
		} else {
			r.Site = doc.Name
			sc := check.Of(doc)
			r.Findings = append(r.Findings, sc.Findings...)
			// The day is known here, too; what is seen on the networks is not.
			r.Findings = append(r.Findings, check.Around(sc, check.Surroundings{Now: time.Now()})...)
			check.Sort(r.Findings)
		}
		for _, f := range r.Findings {
			bad = bad || f.Severity == check.Blocks
		}
		results = append(results, r)
	}
	if err := c.print(out, results); err != nil {
		return err
	}
	if bad {
		return errFound
	}
	return nil
}

func (c *checkCommand) print(out io.Writer, results []result) error {
	if c.JSON {
		enc := json.NewEncoder(out)
		enc.SetIndent("", "  ")
		return enc.Encode(results)
	}
	for _, r := range results {
		for _, e := range r.Error {
			fmt.Fprintf(out, "%s: %s\n", r.File, e)
		}
		for _, f := range r.Findings {
			fmt.Fprintf(out, "%s: %s %s: %s. %s\n", r.File, f.Severity, f.Rule, f.Title, f.Says)
			if f.Fix != nil {
				fmt.Fprintf(out, "    fix: %s\n", f.Fix.Title)
			}
		}
		if len(r.Error)+len(r.Findings) == 0 {
			fmt.Fprintf(out, "%s: %s has no problems\n", r.File, r.Site)
		}
	}
	return nil
}

func readSite(file string) (*site.Site, error) {
	if file == "-" {
		return site.Read(os.Stdin)
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return site.Read(f)
}

type exportCommand struct {
	database
	Site   string `arg:"" name:"SITE" help:"Code of the site, as in its address."`
	Format string `help:"json or yaml." enum:"json,yaml" default:"yaml"`
}

// Run writes the newest revision.
func (c *exportCommand) Run(ctx context.Context, out io.Writer) error {
	w, s, err := c.open(ctx, 0)
	if err != nil {
		return err
	}
	defer s.Close()
	doc, err := w.Sites.Export(ctx, c.Site)
	if err != nil {
		return err
	}
	encode := site.EncodeYAML
	if c.Format == "json" {
		encode = site.Encode
	}
	raw, err := encode(doc)
	if err == nil {
		_, err = out.Write(raw)
	}
	return err
}

type importCommand struct {
	database
	File string `arg:"" name:"FILE" help:"Site file, JSON or YAML; - for standard input."`
	Note string `help:"Why, for the history; who ran the command is added." default:"imported from a file"`
}

// Run stores the file as a revision, after its form was read whole.
func (c *importCommand) Run(ctx context.Context, out io.Writer) error {
	doc, err := readSite(c.File)
	if err != nil {
		return err
	}
	w, s, err := c.open(ctx, 0)
	if err != nil {
		return err
	}
	defer s.Close()
	revision, err := w.Sites.Import(ctx, doc, 0, c.Note+" by "+operator())
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "%s is at revision %d\n", doc.Name, revision)
	for _, f := range check.Site(doc) {
		fmt.Fprintf(out, "%s %s: %s\n", f.Severity, f.Rule, f.Title)
	}
	return nil
}

// operator is who runs the command, so that what it changes can be attributed.
func operator() string {
	if u, err := user.Current(); err == nil {
		return u.Username + " at the command line"
	}
	return "the command line"
}

type schemaCommand struct{}

// Run prints the schema.
func (schemaCommand) Run(out io.Writer) error {
	raw, err := site.Schema()
	if err == nil {
		_, err = fmt.Fprintf(out, "%s\n", raw)
	}
	return err
}

type requestsCommand struct{}

// Run prints docs/outside-names.json.
func (requestsCommand) Run(out io.Writer) error {
	doc, err := internet.RequestAPI()
	if err != nil {
		return err
	}
	var indented bytes.Buffer
	if err := json.Indent(&indented, doc, "", "  "); err != nil {
		return err
	}
	_, err = fmt.Fprintln(out, indented.String())
	return err
}

type openapiCommand struct{}

// Run prints the document that the front end's types are made from.
func (openapiCommand) Run(out io.Writer) error {
	raw, err := api.Description()
	if err != nil {
		return err
	}
	var doc any
	if err := json.Unmarshal(raw, &doc); err != nil {
		return err
	}
	enc := json.NewEncoder(out)
	enc.SetIndent("", "  ")
	return enc.Encode(doc)
}
