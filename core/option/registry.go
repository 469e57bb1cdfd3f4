// Package option is the DHCP option registry of Lithos: what each code means,
// the text people write for it, its bytes on the wire (RFC 2132 and its
// successors), and which of several levels' values takes effect.
package option

import (
	"cmp"
	"slices"
	"strings"
)

// Definition is one row of the registry.
type Definition struct {
	Code    uint8
	Name    string // the trade's name
	Meaning string // one line for people
	Type    Type
	// ServerOnly marks what a server, client or relay sets by itself, so that
	// nobody may set it in a site file.
	ServerOnly bool
	Reference  string // the RFC and section that define it
	Example    string // a value in text form; empty for ServerOnly codes
}

// InSentence is the name in the middle of a sentence: "lease time", "NTP servers".
func (d Definition) InSentence() string {
	if len(d.Name) > 1 && d.Name[1] >= 'A' && d.Name[1] <= 'Z' {
		return d.Name
	}
	return strings.ToLower(d.Name[:min(len(d.Name), 1)]) + d.Name[min(len(d.Name), 1):]
}

// Codes the rest of Lithos names.
const (
	SubnetMask      uint8 = 1
	Router          uint8 = 3
	NameServers     uint8 = 6
	HostName        uint8 = 12
	DomainName      uint8 = 15
	InterfaceMTU    uint8 = 26
	Broadcast       uint8 = 28
	StaticRoutes    uint8 = 33
	NTPServers      uint8 = 42
	VendorSpecific  uint8 = 43
	RequestedAddr   uint8 = 50
	LeaseTime       uint8 = 51
	Overload        uint8 = 52
	MessageType     uint8 = 53
	ServerID        uint8 = 54
	ParameterList   uint8 = 55
	Message         uint8 = 56
	MaxMessageSize  uint8 = 57
	RenewalT1       uint8 = 58
	RebindingT2     uint8 = 59
	VendorClass     uint8 = 60
	ClientID        uint8 = 61
	BootServer      uint8 = 66
	BootFile        uint8 = 67
	UserClass       uint8 = 77
	RelayInfo       uint8 = 82
	SearchList      uint8 = 119
	SubnetSelection uint8 = 118
	ClasslessRoutes uint8 = 121
	PrivateRoutes   uint8 = 249 // a private code that some clients ask for in place of 121
	VendorClasses   uint8 = 124
	VendorInfo      uint8 = 125
	BootServers     uint8 = 150
)

// The private codes a site may define for itself (RFC 3942).
const (
	FirstPrivate uint8 = 224
	LastPrivate  uint8 = 254
)

const alone = true // set by server, client or relay alone

var registry = []Definition{
	{SubnetMask, "Subnet mask", "The mask of the client's network", Address, alone, "RFC 2132 section 3.3", ""},
	{2, "Time offset", "Seconds east of UTC; newer clients use 100 or 101", Signed32, false,
		"RFC 2132 section 3.4", "3600"},
	{Router, "Router", "The gateways to other networks, most preferred first", Addresses, false, "RFC 2132 section 3.5",
		"10.84.18.1"},
	{4, "Time servers", "Servers of the old time protocol (RFC 868); NTP servers are option 42", Addresses, false,
		"RFC 2132 section 3.6", "10.84.16.1"},
	{5, "Name servers (IEN 116)", "Servers of a name protocol before DNS; DNS servers are option 6", Addresses, false,
		"RFC 2132 section 3.7", "10.84.16.1"},
	{NameServers, "Name servers", "The DNS servers to ask, most preferred first", Addresses, false,
		"RFC 2132 section 3.8", "10.84.16.10, 10.84.16.1"},
	{7, "Log servers", "Servers of the old MIT-LCS log protocol", Addresses, false, "RFC 2132 section 3.9",
		"10.84.16.10"},
	{8, "Quote servers", "Servers of the quote of the day", Addresses, false, "RFC 2132 section 3.10", "10.84.16.10"},
	{9, "Line printers", "LPR print servers, most preferred first", Addresses, false, "RFC 2132 section 3.11",
		"10.84.18.24"},
	{10, "Impress servers", "Imagen Impress print servers", Addresses, false, "RFC 2132 section 3.12", "10.84.18.24"},
	{11, "Resource location servers", "RFC 887 resource location servers", Addresses, false, "RFC 2132 section 3.13",
		"10.84.16.10"},
	{HostName, "Host name", "The name the client is given, or says it has", Text, false, "RFC 2132 section 3.14",
		"recep-pc"},
	{13, "Boot file size", "Size of the boot image in blocks of 512 octets", Number16, false,
		"RFC 2132 section 3.15", "128"},
	{14, "Merit dump file", "Where a client that crashes writes its memory", Text, false, "RFC 2132 section 3.16",
		"dumps/core"},
	{DomainName, "Domain", "The domain that completes the client's own name", Domain, false, "RFC 2132 section 3.17",
		"kelder.larkrise.example"},
	{16, "Swap server", "The server of a diskless client's swap", Address, false, "RFC 2132 section 3.18",
		"10.84.16.10"},
	{17, "Root path", "The root disk of a diskless client", Text, false, "RFC 2132 section 3.19",
		"10.84.16.10:/srv/root"},
	{18, "Extensions path", "A file, fetched by TFTP, with more options", Text, false, "RFC 2132 section 3.20",
		"options.bin"},
	{19, "IP forwarding", "Whether the client forwards packets", Switch, false, "RFC 2132 section 4.1", "off"},
	{20, "Non-local source routing", "Whether the client forwards source-routed packets from elsewhere", Switch, false,
		"RFC 2132 section 4.2", "off"},
	{21, "Policy filter", "Destinations and masks that source routes may go to", AddressPairs, false,
		"RFC 2132 section 4.3", "10.84.0.0 255.255.0.0"},
	{22, "Largest reassembly", "The largest packet the client puts together, at least 576 octets", Number16, false,
		"RFC 2132 section 4.4", "1500"},
	{23, "Default time to live", "The TTL of the client's packets, 1 to 255", Number8, false,
		"RFC 2132 section 4.5", "64"},
	{24, "Path MTU ageing", "How long a path's MTU is remembered", Seconds, false, "RFC 2132 section 4.6",
		"10 minutes"},
	{25, "Path MTU plateau", "The MTUs tried in path MTU discovery, smallest first", Numbers16, false,
		"RFC 2132 section 4.7", "576, 1492, 1500"},
	{InterfaceMTU, "Interface MTU", "The largest packet the client sends, in octets", Number16, false,
		"RFC 2132 section 5.1", "1492"},
	{27, "All subnets local", "Whether all subnets have the same MTU", Switch, false, "RFC 2132 section 5.2", "on"},
	{Broadcast, "Broadcast address", "The broadcast address of the client's network", Address, alone,
		"RFC 2132 section 5.3", ""},
	{29, "Mask discovery", "Whether the client asks for its mask by ICMP", Switch, false,
		"RFC 2132 section 5.4", "off"},
	{30, "Mask supplier", "Whether the client answers mask requests by ICMP", Switch, false,
		"RFC 2132 section 5.5", "off"},
	{31, "Router discovery", "Whether the client looks for routers by RFC 1256", Switch, false,
		"RFC 2132 section 5.6", "off"},
	{32, "Router solicitation address", "Where the client sends router solicitations", Address, false,
		"RFC 2132 section 5.7", "10.84.18.1"},
	{StaticRoutes, "Static routes", "Destinations and the routers to them; 121 has taken its place", AddressPairs,
		false, "RFC 2132 section 5.8", "10.84.20.12 10.84.18.1"},
	{34, "Trailer encapsulation", "Whether the client negotiates trailers in ARP", Switch, false,
		"RFC 2132 section 6.1", "off"},
	{35, "ARP cache timeout", "How long the client keeps an ARP entry", Seconds, false, "RFC 2132 section 6.2",
		"5 minutes"},
	{36, "IEEE 802.3 encapsulation", "Off for Ethernet II frames, on for IEEE 802.3", Switch, false,
		"RFC 2132 section 6.3", "off"},
	{37, "TCP default time to live", "The TTL of the client's TCP segments, 1 to 255", Number8, false,
		"RFC 2132 section 7.1", "64"},
	{38, "TCP keepalive interval", "How long a TCP connection is idle before a keepalive", Seconds, false,
		"RFC 2132 section 7.2", "2 hours"},
	{39, "TCP keepalive garbage", "Whether keepalives carry an octet, for old peers", Switch, false,
		"RFC 2132 section 7.3", "off"},
	{40, "NIS domain", "The Network Information Service domain", Text, false, "RFC 2132 section 8.1", "larkrise"},
	{41, "NIS servers", "The Network Information Service servers", Addresses, false, "RFC 2132 section 8.2",
		"10.84.16.10"},
	{NTPServers, "NTP servers", "The NTP servers to set the clock by", Addresses, false, "RFC 2132 section 8.3",
		"10.84.16.1"},
	{VendorSpecific, "Vendor-specific information",
		"What the client's maker decides, octets or text; sub-options are set per vendor class", Plain, false,
		"RFC 2132 section 8.4", "01040a54100a"},
	{44, "NetBIOS name servers", "NetBIOS over TCP/IP name servers, most preferred first", Addresses, false,
		"RFC 2132 section 8.5", "10.84.16.10"},
	{45, "NetBIOS datagram servers", "NetBIOS datagram distribution servers", Addresses, false, "RFC 2132 section 8.6",
		"10.84.16.10"},
	{46, "NetBIOS node type", "1 broadcast, 2 point to point, 4 mixed, 8 hybrid", Number8, false,
		"RFC 2132 section 8.7", "8"},
	{47, "NetBIOS scope", "The NetBIOS scope of the client", Text, false, "RFC 2132 section 8.8", "surgery"},
	{48, "X font servers", "X Window System font servers", Addresses, false, "RFC 2132 section 8.9", "10.84.16.10"},
	{49, "X display managers", "Machines that run an X display manager", Addresses, false, "RFC 2132 section 8.10",
		"10.84.16.10"},
	{RequestedAddr, "Requested address", "The address a client asks for", Address, alone, "RFC 2132 section 9.1", ""},
	{LeaseTime, "Lease time", "How long the client may keep its address unless it renews", Seconds, false,
		"RFC 2132 section 9.2", "8 hours"},
	{Overload, "Option overload", "Which header fields carry more options", overloadFields, alone,
		"RFC 2132 section 9.3", ""},
	{MessageType, "Message type", "Discover, offer, request, and so on", MessageKind, alone,
		"RFC 2132 section 9.6", ""},
	{ServerID, "Server identifier", "The address of the answering server", Address, alone, "RFC 2132 section 9.7", ""},
	{ParameterList, "Parameter request list", "The options a client asks for", Codes, alone,
		"RFC 2132 section 9.8", ""},
	{Message, "Message", "Why a server refuses", Text, alone, "RFC 2132 section 9.9", ""},
	{MaxMessageSize, "Maximum message size", "The largest reply a client accepts, in octets", Number16, alone,
		"RFC 2132 section 9.10", ""},
	{RenewalT1, "Renewal time T1", "When the client asks its server to extend the lease", Seconds, false,
		"RFC 2132 section 9.11", "4 hours"},
	{RebindingT2, "Rebinding time T2", "When the client asks any server to extend the lease", Seconds, false,
		"RFC 2132 section 9.12", "7 hours"},
	{VendorClass, "Vendor class", "Said back to clients that boot from the network and wait for it", Text, false,
		"RFC 2132 section 9.13", "PXEClient"},
	{ClientID, "Client identifier", "What the client calls itself to the server", Identifier, alone,
		"RFC 2132 section 9.14", ""},
	{62, "NetWare/IP domain", "The NetWare/IP domain of the client", Text, false, "RFC 2242 section 2", "larkrise"},
	{63, "NetWare/IP information", "Sub-options of NetWare/IP", SubOptions, false, "RFC 2242 section 3", "0200"},
	{64, "NIS+ domain", "The NIS+ domain of the client", Text, false, "RFC 2132 section 8.11", "larkrise"},
	{65, "NIS+ servers", "The NIS+ servers, most preferred first", Addresses, false, "RFC 2132 section 8.12",
		"10.84.16.10"},
	{BootServer, "TFTP server name", "The server to fetch the bootfile from", Text, false, "RFC 2132 section 9.4",
		"boot.kelder.larkrise.example"},
	{BootFile, "Boot file name", "The file to boot from", Text, false, "RFC 2132 section 9.5", "pxe/start.efi"},
	{68, "Mobile IP home agents", "The Mobile IP home agents, most preferred first", Addresses, false,
		"RFC 2132 section 8.13", "10.84.16.1"},
	{69, "SMTP servers", "The mail servers to send through", Addresses, false, "RFC 2132 section 8.14", "10.84.16.10"},
	{70, "POP3 servers", "The mail servers to fetch from", Addresses, false, "RFC 2132 section 8.15", "10.84.16.10"},
	{71, "NNTP servers", "The news servers", Addresses, false, "RFC 2132 section 8.16", "10.84.16.10"},
	{72, "Web servers", "The default web servers", Addresses, false, "RFC 2132 section 8.17", "10.84.16.10"},
	{73, "Finger servers", "The default finger servers", Addresses, false, "RFC 2132 section 8.18", "10.84.16.10"},
	{74, "IRC servers", "The default IRC servers", Addresses, false, "RFC 2132 section 8.19", "10.84.16.10"},
	{75, "StreetTalk servers", "The StreetTalk directory servers", Addresses, false, "RFC 2132 section 8.20",
		"10.84.16.10"},
	{76, "StreetTalk assistance servers", "The StreetTalk directory assistance servers", Addresses, false,
		"RFC 2132 section 8.21", "10.84.16.10"},
	{UserClass, "User class", "What kind of user or application the client says it is for", OpaqueOctets, alone,
		"RFC 3004 section 4", ""},
	{78, "Directory agents (SLP)", "Service Location directory agents; with only before them, no others may be used",
		OnlyAddresses, false, "RFC 2610 section 3", "only 10.84.16.10"},
	{79, "Service scope (SLP)", "Service Location scopes; with only before them, no others may be used", OnlyText,
		false, "RFC 2610 section 4", "only default"},
	{80, "Rapid commit", "That the client takes an address in two messages", OpaqueOctets, alone,
		"RFC 4039 section 4", ""},
	{81, "Client domain name", "The full name a client has and who registers it", OpaqueOctets, alone,
		"RFC 4702 section 2", ""},
	{RelayInfo, "Relay information", "What a relay says of where the client is", SubOptions, alone,
		"RFC 3046 section 2.0", ""},
	{83, "Storage name servers (iSNS)", "iSNS servers, and what they do", StorageServers, false,
		"RFC 4174 section 2", "functions 0, access 0, administration 0, security 0, 10.84.16.10"},
	{85, "NetWare directory servers", "The Novell Directory Services servers", Addresses, false, "RFC 2241 section 2",
		"10.84.16.10"},
	{86, "NetWare directory tree", "The tree the client logs in to", Text, false, "RFC 2241 section 3", "LARKRISE"},
	{87, "NetWare directory context", "Where in the tree the client starts", Text, false, "RFC 2241 section 4",
		"surgery"},
	{88, "Broadcast service domains", "Domains of broadcast and multicast service controllers", Domains, false,
		"RFC 4280 section 4.1", "media.larkrise.example"},
	{89, "Broadcast service controllers", "Addresses of broadcast and multicast service controllers", Addresses, false,
		"RFC 4280 section 4.3", "10.84.16.10"},
	{90, "Authentication", "Proof that a message is genuine", OpaqueOctets, alone, "RFC 3118 section 2", ""},
	{91, "Last transaction", "When a client was last heard, told to other servers", Seconds, alone,
		"RFC 4388 section 6.1", ""},
	{92, "Associated addresses", "All addresses of one client, told to other servers", Addresses, alone,
		"RFC 4388 section 6.1", ""},
	{93, "Client architecture", "The processors a booting client has", Numbers16, alone, "RFC 4578 section 2.1", ""},
	{94, "Network interface identifier", "The boot interface of the client", OpaqueOctets, alone,
		"RFC 4578 section 2.2", ""},
	{95, "LDAP", "Directory servers, as LDAP addresses", Text, false, "RFC 3679 section 3.1",
		"ldap://directory.larkrise.example/"},
	{97, "Machine identifier", "The UUID of a booting machine", OpaqueOctets, alone, "RFC 4578 section 2.3", ""},
	{98, "User authentication", "Where users prove who they are, as web addresses", Text, false, "RFC 2485 section 2",
		"https://login.larkrise.example/"},
	{99, "Civic location", "Whose street address, the country, and its elements by number", Civic, false,
		"RFC 4776 section 3.1", "client GB; 3 Kelder; 6 Mill Lane"},
	{100, "Time zone (POSIX)", "The time zone as a rule", Text, false, "RFC 4833 section 2",
		"GMT0BST,M3.5.0/1,M10.5.0"},
	{101, "Time zone (name)", "The time zone by its name in the IANA database", Text, false, "RFC 4833 section 2",
		"Europe/London"},
	{108, "IPv6-only preferred", "How long a client that can do without IPv4 stays without", Seconds, false,
		"RFC 8925 section 3.1", "30 minutes"},
	{109, "DHCPv4 over IPv6 source", "The IPv6 address a client of DHCPv4 over DHCPv6 speaks from", Address6, false,
		"RFC 8539 section 6.2", "2001:db8::10"},
	{112, "NetInfo servers", "NetInfo parent servers", Addresses, false, "RFC 3679 section 3.2", "10.84.16.10"},
	{113, "NetInfo tag", "The NetInfo parent server's tag", Text, false, "RFC 3679 section 3.2", "network"},
	{114, "Captive portal", "The web address of the page guests must visit, in https", Text, false,
		"RFC 8910 section 2.1", "https://welcome.larkrise.example/api"},
	{116, "Automatic addresses", "0 forbids a client to give itself a link-local address, 1 allows it", Number8, false,
		"RFC 2563 section 2", "0"},
	{117, "Name service order", "Codes of the name services to ask, in order: 6 is DNS, 44 NetBIOS, 0 local files",
		Numbers16, false, "RFC 2937 section 3", "6, 44"},
	{118, "Subnet selection", "The subnet a client or proxy wants an address in", Address, alone,
		"RFC 3011 section 2", ""},
	{SearchList, "Search list", "The domains that complete a short name, in order", Domains, false,
		"RFC 3397 section 2", "kelder.larkrise.example, larkrise.example"},
	{120, "SIP servers", "The servers for calls, all as names or all as addresses", Callers, false,
		"RFC 3361 section 3", "10.84.16.130"},
	{ClasslessRoutes, "Classless static routes", "Routes by destination; a client that takes them ignores option 3",
		Routes, false, "RFC 3442", "0.0.0.0/0 via 10.84.18.1"},
	{122, "Telephone adapter configuration",
		"For cable telephone adapters: first server, second server, provisioning, realm, tickets, minutes",
		AdapterParts, false, "RFC 3495 section 4", "first server 10.84.16.10; provisioning adapters.larkrise.example"},
	{123, "Geographic location", "Degrees north and east, metres, how many bits of each are meant, datum", Geographic,
		false, "RFC 6225 section 2.2", "54.5 -2.75 120 m, precision 18 18 17, WGS84"},
	{VendorClasses, "Vendor-identifying class", "What kind of client this is, by enterprise number", OpaqueOctets,
		alone, "RFC 3925 section 3", ""},
	{VendorInfo, "Vendor-identifying information", "Sub-options by enterprise number; set per vendor class",
		OpaqueOctets, false, "RFC 3925 section 4", "00007ed90601040a54100a"},
	{128, "Boot server", "For network boot, as its maker says", Plain, false, "RFC 4578 section 2.4", "10.84.16.10"},
	{129, "Call server", "For network boot or telephones, as their maker says", Plain, false, "RFC 4578 section 2.4",
		"10.84.16.130"},
	{130, "Discrimination string", "For network boot, as its maker says", Plain, false, "RFC 4578 section 2.4",
		"ward-handsets"},
	{131, "Statistics server", "For network boot, as its maker says", Plain, false, "RFC 4578 section 2.4",
		"10.84.16.10"},
	{132, "VLAN id", "The IEEE 802.1Q VLAN of a telephone, as its maker says", Plain, false, "RFC 4578 section 2.4",
		"VLAN 31"},
	{133, "Layer 2 priority", "The IEEE 802.1p priority of a telephone, as its maker says", Plain, false,
		"RFC 4578 section 2.4", "05"},
	{134, "DiffServ code point", "The DSCP of a telephone's packets, as its maker says", Plain, false,
		"RFC 4578 section 2.4", "2e"},
	{135, "HTTP proxy for telephones", "The proxy of a telephone's applications, as its maker says", Plain, false,
		"RFC 4578 section 2.4", "proxy.larkrise.example"},
	{136, "PANA agents", "Agents that let a client on to the network", Addresses, false, "RFC 5192 section 3",
		"10.84.16.1"},
	{137, "Location server", "The server that finds the emergency service for a place", DomainWire, false,
		"RFC 5223 section 3", "lost.larkrise.example"},
	{138, "Access point controllers", "CAPWAP controllers of wireless access points", Addresses, false,
		"RFC 5417 section 3", "10.84.16.10"},
	{139, "Mobility servers (addresses)",
		"Mobility servers by service: information, command and event, each with addresses", MobilityHosts, false,
		"RFC 5678 section 2", "information 10.84.16.10; event 10.84.16.1"},
	{140, "Mobility servers (names)", "Mobility servers by service: information, command and event, each with names",
		MobilityNames, false, "RFC 5678 section 3", "information mobility.larkrise.example"},
	{141, "SIP user agent domains", "Domains whose servers configure a telephone", Domains, false,
		"RFC 6011 section 4.1", "phones.larkrise.example"},
	{142, "Network discovery servers", "Servers that tell a mobile client of other networks", Addresses, false,
		"RFC 6153 section 2", "10.84.16.10"},
	{143, "Bootstrap servers", "Where a new device fetches its first configuration, each preceded by its length", URIs,
		false, "RFC 8572 section 8.1", "https://setup.larkrise.example/first"},
	{144, "Geospatial location", "Degrees north and east, metres, the uncertainty of each, datum", Geospatial, false,
		"RFC 6225 section 2.2", "54.5 -2.75 120 m, precision 18 18 17, WGS84"},
	{145, "Forced renewal capability", "How a client accepts to be told to renew", OpaqueOctets, alone,
		"RFC 6704 section 3.1.1", ""},
	{146, "Name server selection", "Which of two name servers to ask for which domains", Selection, false,
		"RFC 6731 section 4.3", "high 10.84.16.10, 10.84.16.1 for kelder.larkrise.example"},
	{147, "Attack signalling server", "The name of the server to ask for help in a flood", DomainWire, false,
		"RFC 8973 section 5.2", "help.larkrise.example"},
	{148, "Attack signalling addresses", "The servers to ask for help in a flood", Addresses, false,
		"RFC 8973 section 5.2", "10.84.16.1"},
	{149, "Option 149", "Not assigned; some makers use it for their own", Plain, false, "RFC 3942 section 4",
		"10.84.16.10"},
	{BootServers, "TFTP server addresses", "The servers to fetch a configuration from", Addresses, false,
		"RFC 5859 section 2", "10.84.16.10"},
	{151, "Query status", "The answer to a bulk question about leases", OpaqueOctets, alone,
		"RFC 6926 section 6.2.2", ""},
	{152, "Base time", "The server's clock in an answer about leases", OpaqueOctets, alone,
		"RFC 6926 section 6.2.3", ""},
	{153, "Start of state", "Since when a lease is in its state", Seconds, alone, "RFC 6926 section 6.2.4", ""},
	{154, "Query start", "From when leases are asked about", OpaqueOctets, alone, "RFC 6926 section 6.2.5", ""},
	{155, "Query end", "Until when leases are asked about", OpaqueOctets, alone, "RFC 6926 section 6.2.6", ""},
	{156, "Lease state", "The state of a lease in an answer about it", Number8, alone, "RFC 6926 section 6.2.7", ""},
	{157, "Data source", "Which server knows of a lease", Number8, alone, "RFC 6926 section 6.2.8", ""},
	{158, "Port control servers", "Port Control Protocol servers, each list preceded by its length", AddressLists,
		false, "RFC 7291 section 4", "10.84.16.1"},
	{159, "Port parameters", "The part of a shared address's ports the client may use", OpaqueOctets, false,
		"RFC 7618 section 9", "00000000"},
	{160, "Captive portal (former code)", "The code of option 114 before it moved; some makers use it for their own",
		Plain, false, "RFC 7710 section 2.1, RFC 8910 section 2.1", "https://portal.larkrise.example/"},
	{161, "Usage description", "Where a thing's maker describes how it behaves on a network", Text, alone,
		"RFC 8520 section 10.1", ""},
	{162, "Encrypted name servers", "Name servers that are asked over TLS, HTTPS or QUIC, with their priorities",
		Encrypted, false, "RFC 9463 section 5.1", "1 dns.larkrise.example 10.84.16.10 alpn=dot port=853"},
	{175, "Boot loader options", "Sub-options of a boot loader, as its maker says", Plain, false, "RFC 3942 section 4",
		"b101"},
	{176, "Telephone settings", "Settings of a telephone, as its maker says", Plain, false, "RFC 3942 section 4",
		"vlan=31"},
	{177, "Cable client configuration", "Once used by cable clients, now option 122", Plain, false,
		"RFC 3942 section 4", "01040a541082"},
	{208, "Boot loader magic", "That options 209 to 211 are for the boot loader", Magic, false,
		"RFC 5071 section 3", "on"},
	{209, "Boot loader configuration", "The boot loader's configuration file", Text, false, "RFC 5071 section 4",
		"boot/menu.cfg"},
	{210, "Boot loader path", "What is put before file names of the boot loader", Text, false,
		"RFC 5071 section 5", "boot/"},
	{211, "Boot loader reboot time", "How long the boot loader waits before it starts again", Seconds, false,
		"RFC 5071 section 6", "30 seconds"},
	{212, "IPv6 rapid deployment", "How to reach IPv6 through the provider's IPv4", RapidDeployment, false,
		"RFC 5969 section 7.1.1", "2001:db8::/32 mask 8 via 192.0.2.1"},
	{213, "Access network domain", "The domain of the access network, where location services are found", DomainWire,
		false, "RFC 5986 section 3.2", "access.larkrise.example"},
	{220, "Subnet allocation", "A whole subnet asked for or given", OpaqueOctets, alone, "RFC 6656 section 3", ""},
	{221, "Virtual subnet selection", "Which virtual network a request belongs to", OpaqueOctets, alone,
		"RFC 6607 section 3.1", ""},
	{PrivateRoutes, "Classless static routes (private code)",
		"What option 121 says, for clients that ask for this code instead", Routes, false,
		"RFC 3442, in a private code (RFC 3942)", "0.0.0.0/0 via 10.84.18.1"},
	{252, "Proxy configuration", "Where a browser fetches the settings of its proxy", Text, false,
		"in a private code (RFC 3942)", "http://proxy.larkrise.example/settings"},
}

var byCode = func() (table [256]*Definition) {
	for i := range registry {
		table[registry[i].Code] = &registry[i]
	}
	return table
}()

// Lookup finds a code's definition. A code that is not registered is given one
// of type OpaqueOctets and ok false.
func Lookup(code uint8) (def Definition, ok bool) {
	if d := byCode[code]; d != nil {
		return *d, true
	}
	return Definition{Code: code, Name: "Option", Meaning: "Not in the registry", Type: OpaqueOctets}, false
}

// Registry lists every definition by code. The slice is the caller's own.
func Registry() []Definition { return slices.Clone(registry) }

// Own is the private options a site defines for itself. The nil Own has none,
// and all its methods work.
type Own []Definition

// Lookup finds a code's definition, the site's own or the registry's.
func (o Own) Lookup(code uint8) (def Definition, ok bool) {
	if code >= FirstPrivate && code <= LastPrivate {
		if i := slices.IndexFunc(o, func(d Definition) bool { return d.Code == code }); i >= 0 {
			return o[i], true
		}
	}
	return Lookup(code)
}

// All lists the registry with the site's own options, by code.
func (o Own) All() []Definition {
	out := append(Registry(), o...)
	slices.SortStableFunc(out, func(a, b Definition) int { return cmp.Compare(a.Code, b.Code) })
	return out
}
