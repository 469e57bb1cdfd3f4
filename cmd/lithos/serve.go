package main

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/internal/api"
	"lithos/internal/demo"
	"lithos/internal/device"
	"lithos/internal/standin"
	"lithos/internal/standin/wired"
	"lithos/internal/store"
	"lithos/internal/work"
	"lithos/web"
)

type migrateCommand struct{ database }

// Run migrates.
func (c *migrateCommand) Run(ctx context.Context) error { return store.Migrate(ctx, c.Database) }

type serveCommand struct {
	database
	Listen      string         `help:"Address and port to serve on." env:"LITHOS_LISTEN" default:"127.0.0.1:8471"`
	Poll        time.Duration  `help:"How often devices are read." env:"LITHOS_POLL" default:"30s"`
	Connections int            `help:"Most connections to PostgreSQL in the pool; two more listen." env:"LITHOS_CONNECTIONS" default:"16"`
	Outside     netip.Addr     `help:"An address on the internet that answers an echo request; a push proves its networks by it." env:"LITHOS_OUTSIDE"`
	OutsideName string         `help:"A name on the internet that is there; a push proves its resolvers by it. Without one it asks for the servers of the root." env:"LITHOS_OUTSIDE_NAME"`
	Authority   string         `name:"certificate-authority" help:"URL that says whether a certificate would be issued (docs/operating.md)." env:"LITHOS_CERTIFICATE_AUTHORITY"`
	Resolvers   []netip.Addr   `name:"resolver" help:"Resolvers on the internet that a trial of a dynamic name asks what they hold; several times for several." env:"LITHOS_RESOLVERS"`
	Reach       []netip.Prefix `help:"Prefixes that Lithos may connect to although they are loopback, link-local or, for servers of names and providers, private." env:"LITHOS_REACH"`
	KeepSeen    time.Duration  `help:"How long it is kept who had an address." env:"LITHOS_KEEP_SEEN" default:"17520h"`
	Secure      bool           `help:"Browsers come over HTTPS only; set it behind a TLS proxy." env:"LITHOS_SECURE"`
	Proxy       []netip.Prefix `help:"Reverse proxies, as prefixes, whose X-Forwarded-For is believed." env:"LITHOS_PROXY"`
	Metrics     string         `help:"Address and port where counters are served as /metrics; none when empty." env:"LITHOS_METRICS"`
	Quiet       bool           `help:"Write no access log." env:"LITHOS_QUIET"`
}

// Run serves until the program is told to end.
func (c *serveCommand) Run(ctx context.Context, out io.Writer) error {
	if c.Connections < 4 {
		return fmt.Errorf("--connections %d is too few; give at least 4", c.Connections)
	}
	if c.Outside.IsValid() && !c.Outside.Is4() {
		return fmt.Errorf("--outside %s is not an IPv4 address; give one that answers, or leave it out", c.Outside)
	}
	if err := store.Migrate(ctx, c.Database); err != nil {
		return err
	}
	w, s, err := c.open(ctx, c.Connections)
	if err != nil {
		return err
	}
	defer closeStore(s)
	listener, err := net.Listen("tcp", c.Listen)
	if err != nil {
		return fmt.Errorf("%w; give another address with --listen", err)
	}
	w.Pushes.Outside, w.Pushes.OutsideName = c.Outside, c.OutsideName
	w.Poll.OutsideEcho = c.Outside
	w.Poll.Resolvers = c.Resolvers
	w.Accounts.Outbound.Allowed = c.Reach
	w.Poll.KeepSeen = c.KeepSeen
	w.Poll.CertificateAuthority = strings.TrimSuffix(c.Authority, "/")
	fmt.Fprintf(out, "Lithos serves at http://%s\n", listener.Addr())
	metrics := prometheus.NewRegistry()
	end, err := serveMetrics(c.Metrics, metrics)
	if err != nil {
		return err
	}
	defer end()
	o := api.Options{Secure: c.Secure, Proxies: c.Proxy, Metrics: metrics}
	if !c.Quiet {
		o.Access = slog.New(slog.NewTextHandler(os.Stderr, nil))
	}
	return serve(ctx, w, listener, c.Poll, o)
}

// serveMetrics answers Prometheus on an address of its own, away from the API: it needs no session, and says how busy
// customers are. It is not served where the address is empty.
func serveMetrics(address string, from prometheus.Gatherer) (end func(), err error) {
	if address == "" {
		return func() {}, nil
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(from, promhttp.HandlerOpts{}))
	server := &http.Server{Addr: address, Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("--metrics: %w", err)
	}
	go func() { _ = server.Serve(listener) }()
	return func() { _ = server.Close() }, nil
}

// relaxCollector sets the garbage collector as the benchmarks do, for a process that
// runs for long.
func relaxCollector() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(api.GCPercent)
	}
}

// serve answers requests and works on jobs until ctx ends, then lets both finish.
func serve(ctx context.Context, w *work.Service, listener net.Listener, poll time.Duration, o api.Options) error {
	relaxCollector()
	if err := w.Run(ctx, poll); err != nil {
		return err
	}
	o.Files, o.Log = web.Files(), logger()
	server := api.Server(api.New(w, o))
	server.BaseContext = func(net.Listener) context.Context { return ctx } // ends event streams
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	late, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopWithin)
	defer cancel()
	err := server.Shutdown(late)
	if !endsBy(late, w.Stopped) {
		o.Log.Warn("the work in the background did not end in time; it is taken up again from what is stored")
	}
	return err
}

// endsBy waits for something to end, and reports whether it did before ctx was done. What is not waited for any longer
// ends with the process.
func endsBy(ctx context.Context, wait func()) bool {
	done := make(chan struct{})
	go func() {
		wait()
		close(done)
	}()
	select {
	case <-done:
		return true
	case <-ctx.Done():
		return false
	}
}

// closeWithin is how long connections to the database may take to be given back at the end. Somebody who still has one
// is answering a request that nobody waits for any more.
const closeWithin = 2 * time.Second

func closeStore(s *store.Store) {
	ctx, cancel := context.WithTimeout(context.Background(), closeWithin)
	defer cancel()
	endsBy(ctx, s.Close)
}

type deviceCommand struct {
	database
	Site        string `arg:"" help:"Id of the site."`
	Device      string `arg:"" help:"Id of the device in the site file."`
	URL         string `arg:"" help:"https://host:port of its RESTCONF server."`
	Account     string `arg:"" help:"Account on the device."`
	Fingerprint string `arg:"" help:"SHA-256 of its certificate, as hex."`
}

// Run stores the access, its password encrypted.
func (c *deviceCommand) Run(ctx context.Context) error {
	sum, err := hex.DecodeString(strings.ReplaceAll(c.Fingerprint, ":", ""))
	if err != nil || len(sum) != 32 {
		return errors.New("the fingerprint must be 64 hex digits, the SHA-256 of the device's certificate")
	}
	password, err := firstLine(os.Stdin)
	if err != nil {
		return err
	}
	return c.with(ctx, func(w *work.Service) error {
		return w.Accounts.PutAccess(ctx, operator(), c.Site, c.Device,
			device.Access{URL: c.URL, Account: c.Account, Password: password, Fingerprint: sum})
	})
}

type standinCommand struct {
	Device standinDevice `cmd:"" help:"Simulate one device of a site file, with clients on its networks (password read from standard input)."`
	DHCP   standinDHCP   `cmd:"" name:"dhcp" help:"Serve a device's pools, or relay for it, on real network interfaces."`
	DNS    standinDNS    `cmd:"" name:"dns" help:"Serve a device's resolver on a real address."`
}

type standinDevice struct {
	File    string        `arg:"" help:"Site file."`
	Device  string        `arg:"" help:"Id of the device in the site file."`
	Account string        `help:"Account on the device." default:"lithos"`
	Pace    time.Duration `help:"Time between two messages of its clients." default:"250ms"`
	State   string        `help:"File its startup configuration survives in." type:"path"`
}

// Run simulates one device until the program is told to end.
func (c *standinDevice) Run(ctx context.Context, out io.Writer) error {
	doc, dev, err := readDevice(c.File, c.Device)
	if err != nil {
		return err
	}
	password, err := firstLine(os.Stdin)
	if err != nil {
		return err
	}
	relaxCollector()
	fabric := standin.NewFabric()
	d, err := standin.Start(standin.Config{
		Name: dev.ID, Kind: dev.Kind, Fabric: fabric, Initial: compile.Device(doc, dev.ID), Account: c.Account,
		Password: password,
		State:    c.State, Log: logger(),
	})
	if err != nil {
		return err
	}
	defer d.Close()
	fmt.Fprintf(out, "%s answers at %s\ncertificate %x\n", dev.ID, d.URL, d.Fingerprint)
	fabric.RunClients(ctx, demo.Clients(doc), c.Pace)
	return nil
}

func readDevice(file, id string) (*site.Site, *site.Device, error) {
	doc, err := readSite(file)
	if err != nil {
		return nil, nil, err
	}
	for i := range doc.Devices {
		if d := &doc.Devices[i]; d.ID == id || d.Name == id {
			return doc, d, nil
		}
	}
	return nil, nil, fmt.Errorf("%s has no device %q; give the id or name of one of its devices", file, id)
}

type standinDHCP struct {
	Iface  []string `required:"" help:"Network interface of this machine; it must have an address of the device's. May be given several times."`
	Site   string   `required:"" help:"Site file."`
	Device string   `required:"" help:"Id or name of the device in the site file."`
	Leases string   `help:"File the leases survive in." type:"path"`
	// Metrics is where counters are read, for a monitoring system.
	Metrics string `help:"Address and port where counters are served as /metrics; none when empty."`
}

// Run serves until the program is told to end.
func (c *standinDHCP) Run(ctx context.Context, out io.Writer) error {
	doc, dev, err := readDevice(c.Site, c.Device)
	if err != nil {
		return err
	}
	db, closeDB, err := standin.OpenLeaseDB(c.Leases, logger())
	if err != nil {
		return err
	}
	defer closeDB()
	relaxCollector()
	ready := make(chan struct{})
	go func() {
		select {
		case <-ready:
			fmt.Fprintf(out, "%s listens on %s\n", dev.Name, strings.Join(c.Iface, ", "))
		case <-ctx.Done():
		}
	}()
	metrics := prometheus.NewRegistry()
	end, err := serveMetrics(c.Metrics, metrics)
	if err != nil {
		return err
	}
	defer end()
	return wired.Serve(ctx, wired.Config{Device: compile.Device(doc, dev.ID), Interfaces: c.Iface, LeaseDB: db,
		Log: loggerFrom(slog.LevelInfo), Metrics: metrics}, ready)
}
