package main

// source is one figure of a benchmark: the benchmark's name as go test prints it, and the unit of the figure.
type source struct{ bench, unit string }

// row is one line of the table: a figure, or how many times another of the same run it is.
type row struct {
	pkg    string
	what   string
	figure source
	per    source // the figure is divided by this; empty when it stands alone
	unit   string // said after the figure
	goal   float64
	least  bool // the goal is the least that will do; otherwise the most. A goal of 0 is none.
}

func ns(bench string) source { return source{bench, "ns/op"} }

// rows are what Lithos promises, by package, so that a package's test binary is made once.
var rows = []row{
	{"core/check", "every rule, 50 networks and 500 reservations, against a walk of the document",
		ns("Check/rules/reservations=500"), ns("Check/walk/reservations=500"), "times", 10, false},
	{"core/check", "the same with 5,000 reservations",
		ns("Check/rules/reservations=5000"), ns("Check/walk/reservations=5000"), "times", 10, false},
	{"core/check", "every rule, 50,000 reservations against 5,000",
		ns("Check/rules/reservations=50000"), ns("Check/rules/reservations=5000"), "times", 12, false},
	{"core/dhcp", "DHCP exchanges a second, against the codec alone", source{"Exchange/engine", "exchanges/s"},
		source{"Exchange/codec", "exchanges/s"}, "of it", 0.5, true},
	{"core/dhcp", "DHCP exchanges a second", source{"Exchange/engine", "exchanges/s"}, source{}, "", 0, false},
	{"core/dhcp", "an exchange with 100,000 leases, against 1,000", ns("Exchange/engine/leases=100000"),
		ns("Exchange/engine/leases=1000"), "times", 1.2, false},
	{"core/edit", "pasting 5,000 lines, the first time, against reading them as a site file", ns("Paste/first"),
		ns("Paste/as_a_site_file"), "times", 10, false},
	{"core/edit", "the same the fourth time, when 15,000 are there", ns("Paste/fourth"),
		ns("Paste/as_a_site_file"), "times", 10, false},
	{"core/edit", "taking 5,000 of 20,000 away again, against reading them as a site file", ns("Paste/removed"),
		ns("Paste/as_a_site_file"), "times", 10, false},
	{"core/move", "planning a move of 50 networks and 5,000 addresses, against copying the document by its site file",
		source{"Plan", "x-copy"}, source{}, "times", 50, false},
	{"core/move", "simulating its night for 5,000 clients, in exchanges of the same engine for each client " +
		"(4 are 3 s at 6,600 exchanges a second)", source{"Night", "exchanges/client"}, source{}, "", 4, false},
	{"core/names", "a trace at a site of 10,000 names, against its bare look-ups",
		source{"Trace/10000-names", "x-look-ups"}, source{}, "times", 10, false},
	{"core/names", "the same against a site of 100 names", source{"Trace/10000-names", "x-100-names"}, source{},
		"times", 1.2, false},
	{"core/rehearse", "rehearsing 20,000 clients, against 5,000", ns("Rehearsal/20000_clients"),
		ns("Rehearsal/5000_clients"), "times", 4.8, false},
	{"core/sequence", "planning 5,000 parts, against reading them once", source{"Plan/5000", "x-reading"}, source{},
		"times", 20, false},
	{"core/zone", "a zone of 100,000 records, against reading its octets line by line", source{"Parse", "x-lines"},
		source{}, "times", 10, false},
	{"internal/api", "one edit through the API at 50 networks, against the bare transaction",
		source{"Edit", "50-networks/bare"}, source{}, "times", 3, false},
	{"internal/api", "the bare transaction", source{"Edit", "µs-bare"}, source{}, "µs", 0, false},
	{"internal/api", "one edit at 250 networks and 25,000 reservations, against 6 networks",
		source{"Edit", "250-networks/6"}, source{}, "times", 1.5, false},
	{"internal/api", "an edit of a reservation among 25,000, against one among 600",
		source{"Edit", "reservation-250/6"}, source{}, "times", 1.5, false},
	{"internal/api", "octets of the answer to an edit in a network of 100 reservations",
		source{"Edit", "octets-at-250"}, source{}, "", 8000, false},
	{"internal/api", "octets of the answer when a row is selected", source{"Select", "octets"}, source{}, "", 8000,
		false},
	{"internal/api", "Rounds with 2,000 sites, against reading their rows", source{"Rounds", "list/rows"}, source{},
		"times", 3, false},
	{"internal/api", "2,000 following names at 200 sites checked in one pass, against reading their rows",
		source{"Following", "check/rows"}, source{}, "times", 1.5, false},
	{"internal/browser", "the longest task while dragging over 5,000 pins",
		source{"FiveThousand", "ms-longest-task-dragging"}, source{}, "ms (0 is none over 50)", 50, false},
	{"internal/browser", "the longest task while scrolling their list, 300 px a frame",
		source{"FiveThousand", "ms-longest-task-scrolling"}, source{}, "ms", 50, false},
	{"internal/browser", "the longest task while filtering their list",
		source{"FiveThousand", "ms-longest-task-filtering"}, source{}, "ms", 50, false},
	{"internal/browser", "opening the page of an order that 5,000 clients were rehearsed for, against an empty one",
		source{"FiveThousand", "rehearsed-order/empty"}, source{}, "times", 1.5, false},
	{"internal/standin/resolve", "answers a second of a resolver over loopback, against a server that echoes",
		source{"Answers", "x-echo"}, source{}, "of it", 0.5, true},
	{"internal/view", "the page of names at 25,000 reservations, against 2,500",
		source{"Names/25000-reservations", "x-2500"}, source{}, "times", 14, false},
	{"internal/work", "a push of 22 steps over 3 devices whose answers take 10 ms, against the bare requests",
		source{"PushOverLines", "x-requests"}, source{}, "times", 1.5, false},
	{"internal/work", "the same on the machine itself, where the journal's writes show", source{"Push", "x-requests"},
		source{}, "times", 0, false},
}
