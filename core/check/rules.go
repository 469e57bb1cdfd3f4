package check

import "lithos/core/site"

// finder is how a rule looks, and what makes it look again after an edit: a rule
// about networks when its network was touched. What changes networks, devices or what
// holds for the whole site makes every rule look again.
type finder struct {
	network func(f *facts, n *site.Network, report func(Finding))
	// holders is about what holds an address of a network, n, or one of no network,
	// where n is nil.
	holders func(f *facts, n *site.Network, held []owner, report func(Finding))
	device  func(f *facts, d *site.Device, report func(Finding))
	site    func(f *facts, report func(Finding))
	// afterPools and afterHolders make the rule look everywhere again when some pool, or
	// what holds some address, was touched.
	afterPools, afterHolders bool
	afterNames               bool // the same for names: resolvers, zones, records and services
}

func inNetwork(look func(f *facts, n *site.Network, report func(Finding))) finder {
	return finder{network: look}
}

func amongHolders(look func(f *facts, n *site.Network, held []owner, report func(Finding))) finder {
	return finder{holders: look}
}

func onDevice(look func(f *facts, d *site.Device, report func(Finding))) finder {
	return finder{device: look}
}

// servingDevice is about what a device must hold to serve networks, too.
func servingDevice(look func(f *facts, d *site.Device, report func(Finding))) finder {
	return finder{device: look, afterPools: true}
}

func ofSite(look func(f *facts, report func(Finding))) finder { return finder{site: look} }

func ofPools(look func(f *facts, report func(Finding))) finder {
	return finder{site: look, afterPools: true}
}

// ofNames is about names, which reservations, fixed devices and what clients are told have part in.
func ofNames(look func(f *facts, report func(Finding))) finder {
	return finder{site: look, afterPools: true, afterHolders: true, afterNames: true}
}

// atLevels is about the levels that set options: those of each network, and those
// above networks, where the network is nil.
func atLevels(look func(f *facts, n *site.Network, report func(Finding))) finder {
	return finder{network: look, site: func(f *facts, report func(Finding)) { look(f, nil, report) }}
}

// toldClients is about the effective options of some clients.
func toldClients(look func(f *facts, n *site.Network, report func(Finding))) finder {
	out := atLevels(look)
	out.afterPools = true
	return out
}

// toldHolders is about options that tell clients of what holds an address.
func toldHolders(look func(f *facts, n *site.Network, report func(Finding))) finder {
	out := toldClients(look)
	out.afterHolders = true
	return out
}

// rules is the table of those that need nothing but the document. They lie in the
// files that are named after what they are about.
var rules = []Rule{
	{"network-outside-block", "Addressing", Warns, "Every network lies inside the site's block.",
		inNetwork(networkOutsideBlock)},
	{"networks-overlap", "Addressing", Blocks, "No two networks share an address.", ofSite(networksOverlap)},
	{"prefix-has-host-bits", "Addressing", Blocks, "A network's prefix is its first address.",
		inNetwork(prefixHasHostBits)},
	{"gateway-outside-network", "Addressing", Blocks, "A gateway lies in its network.",
		inNetwork(gatewayOutsideNetwork)},
	{"gateway-unusable", "Addressing", Blocks, "A gateway is neither network nor broadcast address.",
		inNetwork(gatewayUnusable)},
	{"gateway-on-no-interface", "Addressing", Warns, "A device holds each gateway address.",
		inNetwork(gatewayOnNoInterface)},
	{"interface-outside-network", "Addressing", Warns, "An interface's address lies in a network.",
		onDevice(interfaceOutsideNetwork)},
	{"interface-mask-differs", "Addressing", Blocks, "An interface has its network's mask.",
		onDevice(interfaceMaskDiffers)},
	{"interfaces-overlap", "Addressing", Blocks, "A device's interfaces are on different subnets.",
		onDevice(interfacesOverlap)},
	{"address-two-owners", "Addressing", Blocks, "An address has one owner.", amongHolders(addressTwoOwners)},
	{"vlan-id-out-of-range", "Addressing", Blocks, "A VLAN id is from 1 to 4094.",
		finder{network: networkVLANOutOfRange, device: deviceVLANOutOfRange}},
	{"vlan-id-reused", "Addressing", Blocks, "A VLAN id belongs to one network.", ofSite(vlanReused)},
	{"vlan-differs", "Addressing", Blocks, "A network's interface is on its VLAN.", inNetwork(vlanDiffers)},
	{"reference-missing", "Addressing", Blocks, "What a part refers to exists.",
		finder{site: referenceMissing, device: portReferenceMissing, afterPools: true, afterHolders: true}},
	{"fixed-outside-network", "Addressing", Warns, "A fixed device holds an address of its network.",
		amongHolders(fixedOutsideNetwork)},
	{"permits-missing", "Addressing", Notes, "Interfaces of a device that lists permits list theirs.",
		onDevice(permitsMissing)},
	{"windows-wrong", "Addressing", Warns, "The windows of a standard lie one after another.", ofSite(windowsWrong)},
	{"range-backwards", "DHCP", Blocks, "A range has addresses, first before last.", inNetwork(rangeBackwards)},
	{"reservation-client-twice", "DHCP", Blocks, "A client identifier has one reservation a network.",
		inNetwork(reservationClientTwice)},
	{"mac-reserved-and-fixed", "DHCP", Warns, "A machine is given its address or holds it itself.",
		amongHolders(macReservedAndFixed)},
	{"uplink-incomplete", "Uplink", Blocks, "An uplink has what its way of getting an address needs.",
		onDevice(uplinkIncomplete)},
	{"route-router-outside", "Options", Blocks, "The router of a route that clients receive is in their network.",
		inNetwork(routeRouterOutside)},
	{"default-among-static-routes", "Options", Warns, "A default route is told as option 3 or 121, not as 33.",
		inNetwork(defaultAmongStaticRoutes)},
	{"option-names-unusable", "Options", Blocks, "Clients receive no address that no host can hold.",
		toldClients(optionNamesUnusable)},
	{"option-names-nobody", "Options", Warns, "Machines whose addresses clients receive are recorded.",
		toldHolders(optionNamesNobody)},
	{"option-defined-twice", "Options", Blocks, "A private code has one definition.", ofSite(optionDefinedTwice)},
	{"option-defined-registered", "Options", Blocks, "A site defines private codes alone.",
		ofSite(optionDefinedRegistered)},
	{"name-invalid", "Names", Warns, "A host name is one a host can have.",
		finder{network: nameInvalid, device: deviceNameInvalid}},
	{"device-name-twice", "Addressing", Warns, "A device has a name of its own.", ofSite(deviceNameTwice)},
	{"interface-name-twice", "Addressing", Blocks, "An interface has a name of its own on its device.",
		onDevice(interfaceNameTwice)},
	{"vlan-twice-on-device", "Addressing", Blocks, "A device has one interface in a VLAN.",
		onDevice(vlanTwiceOnDevice)},
	{"port-in-two-groups", "Addressing", Blocks, "A port is in one port group.", onDevice(portInTwoGroups)},
	{"network-name-twice", "Addressing", Warns, "A network has a name of its own.", ofSite(networkNameTwice)},
	{"reservation-name-twice", "DHCP", Warns, "A host name has one reservation a network.",
		inNetwork(reservationNameTwice)},
	{"reservation-known-twice", "DHCP", Notes, "A client is known by its MAC or by its client identifier.",
		inNetwork(reservationKnownTwice)},
	{"pool-outside-network", "DHCP", Blocks, "A pool's ranges lie in its network.", inNetwork(poolOutsideNetwork)},
	{"pools-overlap", "DHCP", Blocks, "No address is in two pools.", ofPools(poolsOverlap)},
	{"pool-holds-gateway", "DHCP", Blocks, "No pool hands out the gateway.", inNetwork(poolHoldsGateway)},
	{"pool-holds-unusable", "DHCP", Warns, "No pool counts on a network or broadcast address.",
		inNetwork(poolHoldsUnusable)},
	{"pool-holds-fixed-device", "DHCP", Blocks, "No pool hands out a fixed device's address.",
		inNetwork(poolHoldsFixedDevice)},
	{"exclusion-outside-pool", "DHCP", Notes, "An exclusion lies inside its pool.", inNetwork(exclusionOutsidePool)},
	{"exclusion-empties-pool", "DHCP", Warns, "A pool has addresses left to hand out.",
		inNetwork(exclusionEmptiesPool)},
	{"reservation-outside-network", "DHCP", Blocks, "A reservation lies in its network.",
		inNetwork(reservationOutsideNetwork)},
	{"reservation-mac-twice", "DHCP", Blocks, "A MAC has one reservation a network.", inNetwork(reservationMACTwice)},
	{"mac-malformed", "DHCP", Blocks, "A recorded MAC is one a client can have.", amongHolders(macMalformed)},
	{"pool-off", "DHCP", Warns, "A pool is switched on.", inNetwork(poolOff)},
	{"network-unserved", "DHCP", Warns, "A DHCP server answers on every network.", inNetwork(networkUnserved)},
	{"address-unusable", "Addressing", Blocks, "No device holds a network or broadcast address.",
		amongHolders(addressUnusable)},
	{"vlan-on-one-side-only", "Addressing", Blocks, "Both ends of a cable carry the same VLANs.",
		ofSite(vlanOnOneSideOnly)},
	{"untagged-vlan-differs", "Addressing", Blocks, "Both ends of a cable have the same untagged VLAN.",
		ofSite(untaggedDiffers)},
	{"network-without-interface", "Addressing", Warns, "A device has an address in each network.",
		inNetwork(networkWithoutInterface)},
	{"network-at-no-port", "Addressing", Warns, "Each network comes out at a port of a switch.",
		inNetwork(networkAtNoPort)},
	{"public-prefix-inside", "Addressing", Warns, "Networks use addresses that are free for private use.",
		inNetwork(publicPrefixInside)},
	{"beyond-device", "Addressing", Blocks, "A device is asked only for what its kind can do.",
		servingDevice(beyondDevice)},
	{"network-untranslated", "Uplink", Warns, "An uplink translates every private network.",
		ofSite(networkUntranslated)},
	{"translation-unknown", "Uplink", Notes, "An uplink says which networks it translates.",
		onDevice(translationUnknown)},
	{"uplink-gateway-outside", "Uplink", Blocks, "An uplink's router is on its subnet.",
		onDevice(uplinkGatewayOutside)},
	{"router-missing", "Options", Warns, "Clients receive a router.", inNetwork(routerMissing)},
	{"router-outside-network", "Options", Blocks, "The router that clients receive is in their network.",
		inNetwork(routerOutsideNetwork)},
	{"dns-missing", "Options", Warns, "Clients receive a name server.", inNetwork(dnsMissing)},
	{"option-invalid", "Options", Blocks, "An option's value fits its type.", atLevels(optionInvalid)},
	{"lease-timers-order", "DHCP", Blocks, "T1 comes before T2, and T2 before the lease ends.",
		inNetwork(leaseTimersOrder)},
	{"pool-holds-interface", "DHCP", Blocks, "No pool counts on an address of a device's interface.",
		inNetwork(poolHoldsInterface)},
	{"reservation-excluded", "DHCP", Notes, "A reservation is not inside an exclusion.",
		inNetwork(reservationExcluded)},
	{"reservation-in-pool", "DHCP", Blocks, "A device that keeps reservations and ranges apart is given them apart.",
		inNetwork(reservationInPool)},
	{"mac-randomised", "DHCP", Warns, "A pinned MAC is one its machine keeps.", inNetwork(macRandomised)},
	{"relay-missing", "DHCP", Blocks, "A server elsewhere is reached through a relay.", inNetwork(relayMissing)},
	{"relay-target-wrong", "DHCP", Blocks, "A relay passes requests to a server that serves the network.",
		inNetwork(relayTargetWrong)},
	{"relay-beside-server", "DHCP", Warns, "A network has a server on it, or a relay, not both.",
		inNetwork(relayBesideServer)},
	{"two-servers", "DHCP", Warns, "One server answers on a network.", inNetwork(twoServers)},
	{"pool-unreachable", "DHCP", Blocks, "Requests of a pool's clients are heard by something.",
		inNetwork(poolUnreachable)},
	{"dhcp-not-permitted", "DHCP", Blocks, "An interface lets its network's DHCP requests in.",
		inNetwork(dhcpNotPermitted)},
	{"lease-too-long", "DHCP", Warns, "Addresses of clients that left come back in days.", inNetwork(leaseTooLong)},
	{"lease-too-short", "DHCP", Warns, "Clients do not renew all the time.", inNetwork(leaseTooShort)},
	{"class-missing", "DHCP", Blocks, "A pool's vendor class is one of the site's.", inNetwork(classMissing)},
	{"dns-unreachable", "Options", Warns, "A name server inside the site is a device that exists.",
		toldHolders(dnsUnreachable)},
	{"dns-outside-first", "Options", Warns, "The site's own name server is asked first.", toldClients(dnsOutsideFirst)},
	{"dns-inside-outside-mixed", "Options", Warns, "Clients are not told internal and public name servers together.",
		toldClients(dnsMixed)},
	{"dns-learnt-mixed", "Options", Warns, "Clients receive the provider's name servers or the site's, not both.",
		toldClients(dnsLearntMixed)},
	{"domain-differs", "Options", Warns, "Clients receive the site's own domain.", toldClients(domainDiffers)},
	{"search-list-too-long", "Options", Warns, "A search list is one every client takes whole.",
		toldClients(searchListTooLong)},
	{"option-server-only", "Options", Blocks, "Nobody sets what the server alone sets.", atLevels(optionServerOnly)},
	{"option-shadows-router", "Options", Blocks, "Static routes include the way out.", inNetwork(optionShadowsRouter)},
	{"option-set-twice", "Options", Warns, "A level sets an option once.", atLevels(optionSetTwice)},
	{"boot-pair-incomplete", "Options", Warns, "A TFTP server and a boot file go together.",
		inNetwork(bootPairIncomplete)},
	{"mtu-above-uplink", "Options", Warns, "Clients send no packet the uplink cannot carry.",
		inNetwork(mtuAboveUplink)},
	{"option-over-size", "Options", Warns, "What clients receive fits what every client accepts.",
		inNetwork(optionOverSize)},
	{"vendor-invalid", "Options", Blocks, "Sub-options of a vendor class can be sent.", ofSite(vendorInvalid)},
	{"record-invalid", "Names", Blocks, "A record can be read and sent.", ofNames(recordInvalid)},
	{"name-too-long", "Names", Blocks, "A name fits with its zone.", ofNames(nameTooLong)},
	{"name-lost", "Names", Blocks, "A machine keeps its only name.", ofNames(nameLost)},
	{"name-two-addresses", "Names", Warns, "A name is one machine's.", ofNames(nameTwoAddresses)},
	{"alias-with-other-data", "Names", Blocks, "An alias has nothing beside it.", ofNames(aliasWithOtherData)},
	{"alias-loop", "Names", Blocks, "An alias leads somewhere.", ofNames(aliasLoop)},
	{"alias-target-missing", "Names", Warns, "What an alias or a service record names is there.",
		ofNames(aliasTargetMissing)},
	{"reverse-missing", "Names", Notes, "An address with a name has it in reverse.", ofNames(reverseMissing)},
	{"reverse-differs", "Names", Warns, "Reverse and forward agree.", ofNames(reverseDiffers)},
	{"reverse-two-names", "Names", Warns, "An address has one name in reverse.", ofNames(reverseTwoNames)},
	{"record-outside-site", "Names", Warns, "A private address in a record is the site's.",
		ofNames(recordOutsideSite)},
	{"record-into-pool", "Names", Warns, "A record names no address that is handed out.", ofNames(recordIntoPool)},
	{"domain-multicast", "Names", Warns, "No domain is one of multicast names.", ofNames(domainMulticast)},
	{"domain-not-ours", "Names", Warns, "The site's domain is registered, or kept for private use.",
		ofNames(domainNotOurs)},
	{"search-domain-misses-zone", "Names", Warns, "Clients complete names with domains that have some.",
		ofNames(searchDomainMissesZone)},
	{"short-names-leak", "Names", Warns, "Names of one word stay at the site.", ofNames(shortNamesLeak)},
	{"private-reverse-leaks", "Names", Warns, "Private and special names stay at the site.",
		ofNames(privateReverseLeaks)},
	{"no-forwarder", "Names", Warns, "A resolver asks somebody for what is not the site's.", ofNames(noForwarder)},
	{"forwarder-loops", "Names", Blocks, "No resolver asks itself.", ofNames(forwarderLoops)},
	{"resolver-not-listening", "Names", Warns, "A resolver answers at each name server address that clients receive.",
		ofNames(resolverNotListening)},
	{"resolver-not-permitted", "Names", Warns, "An interface lets its network's questions in.",
		ofNames(resolverNotPermitted)},
	{"asker-not-allowed", "Names", Warns, "Clients that are told a resolver may ask it.", ofNames(askerNotAllowed)},
	{"resolver-address-moves", "Names", Warns, "A name server's own address is kept for it.",
		ofNames(resolverAddressMoves)},
	{"split-inside-missing", "Names", Warns, "A name the world is told is there inside, too.",
		ofNames(splitInsideMissing)},
	{"split-outside-private", "Names", Blocks, "The world is told no private address.", ofNames(splitOutsidePrivate)},
	{"service-outside-only", "Names", Warns, "A service is reached from inside, too.", ofNames(serviceOutsideOnly)},
	{"service-nowhere", "Names", Warns, "A service is in a zone wherever it is to be there.", ofNames(serviceNowhere)},
	{"zone-shadows-domain", "Names", Notes, "A zone inside hides nothing of a registered domain.",
		ofNames(zoneShadowsDomain)},
	{"lease-names-off", "Names", Notes, "Clients with leases have names.", ofNames(leaseNamesOff)},
	{"cache-above-memory", "Names", Warns, "A cache fits into its device.", ofNames(cacheAboveMemory)},
	{"tls-name-missing", "Names", Warns, "Who is asked over TLS has a name to verify.", ofNames(tlsNameMissing)},
	{"ttl-beyond-lease", "Names", Warns, "A lease's name is kept no longer than the lease.", ofNames(ttlBeyondLease)},
	{"challenge-key-wide", "Names", Warns, "The key of a certificate can prove its name and do nothing else.",
		ofNames(challengeKeyWide)},
	{"challenge-nowhere", "Names", Warns, "A certificate's name is in a zone that the world asks.",
		ofNames(challengeNowhere)},
	{"ddns-key-too-wide", "Names", Warns, "The key of a dynamic name can write that name alone.",
		ofNames(followingKeyWide)},
	{"ddns-ttl-long", "Names", Warns, "Others soon ask again for a dynamic name.", ofNames(followingTTLLong)},
	{"ddns-too-often", "Names", Warns, "The server of a dynamic name is not told every few seconds.",
		ofNames(followingTooOften)},
	{"ddns-two-writers", "Names", Blocks, "One writes what the world is told of a name.", ofNames(followingTwoWriters)},
	{"ddns-outside-alias", "Names", Blocks, "A dynamic name is no alias.", ofNames(followingAlias)},
	{"following-hidden-inside", "Names", Warns, "A dynamic name is there inside, too.", ofNames(followingHidden)},
	{"forwarder-unusable", "Names", Blocks, "A resolver asks addresses that a machine can have.",
		ofNames(forwarderUnusable)},
	{"forwarder-no-server", "Names", Warns, "Who is asked for names at the site is a name server.",
		ofNames(forwarderNoServer)},
	{"forwarder-port-tls", "Names", Warns, "Who is asked over TLS is asked at its port.", ofNames(forwarderPortTLS)},
	{"domain-servers-wrong", "Names", Warns, "The servers of a domain are asked, and answer.",
		ofNames(domainServersWrong)},
	{"silenced-own-domain", "Names", Warns, "No name of the site is blocked.", ofNames(silencedOwn)},
	{"resolver-port-odd", "Names", Warns, "A resolver listens where clients ask.", ofNames(resolverPortOdd)},
	{"ports-equal", "Names", Blocks, "A resolver has a port for TLS alone.", ofNames(portsEqual)},
	{"ttl-order", "Names", Blocks, "The shortest time of answers is not above the longest.", ofNames(ttlOrder)},
	{"dns-only-outside", "Options", Warns, "Clients ask somebody who knows the names of the site.",
		toldClients(dnsOnlyOutside)},
	{"hostname-for-many", "Options", Warns, "A client has a name of its own.", atLevels(hostnameForMany)},
	{"zone-twice", "Names", Blocks, "A zone is there once on each side.", ofNames(zoneTwice)},
	{"zone-too-high", "Names", Blocks, "A zone inside is one domain of many.", ofNames(zoneTooHigh)},
	{"reverse-owner-invalid", "Names", Warns, "A reverse name is of an address.", ofNames(reverseOwnerInvalid)},
	{"reverse-zone-wide", "Names", Warns, "A reverse zone is of the site's addresses.", ofNames(reverseZoneWide)},
	{"server-name-address", "Names", Warns, "A server is named by its name.", ofNames(serverNameAddress)},
	{"server-name-alias", "Names", Warns, "A server is named by no alias.", ofNames(serverNameAlias)},
	{"delegation-hides", "Names", Warns, "A name that is handed on is nobody's here.", ofNames(delegationHides)},
	{"delegation-without-glue", "Names", Warns, "A name server in its own zone has an address above it.",
		ofNames(delegationWithoutGlue)},
	{"alias-chain-long", "Names", Warns, "An alias leads to an address in a few steps.", ofNames(aliasChainLong)},
	{"wildcard-at-apex", "Names", Warns, "A mistyped name leads nowhere.", ofNames(wildcardAtApex)},
	{"record-address-unusable", "Names", Warns, "A record has an address that a machine can have.",
		ofNames(recordAddressUnusable)},
	{"spf-twice", "Names", Warns, "A name has one sender policy.", ofNames(spfTwice)},
	{"key-without-secret", "Names", Warns, "Lithos keeps each key that is named.", ofNames(keyWithoutSecret)},
	{"zone-server-private", "Names", Warns, "The server of an outside zone is outside.", ofNames(zoneServerPrivate)},
	{"outside-not-ours", "Names", Warns, "The world is led to the site's own line.", ofNames(outsideNotOurs)},
	{"certificate-without-key", "Names", Warns, "Somebody can prove the name of a certificate.",
		ofNames(certificateWithoutKey)},
	{"service-base-missing", "Names", Warns, "The proxy of a service is there.", ofNames(serviceBaseMissing)},
	{"uplink-address-unusable", "Uplink", Blocks, "The addresses of a line are a machine's.",
		onDevice(uplinkAddressUnusable)},
	{"mtu-above-line", "Uplink", Warns, "An uplink sends no packet that its line cannot carry.",
		onDevice(mtuAboveLine)},
	{"translated-twice", "Uplink", Notes, "A network leaves by one uplink.", ofSite(translatedTwice)},
	{"translates-nobody", "Uplink", Warns, "Private networks have a way out.", ofSite(translatesNobody)},
	{"admin-from-outside", "Addressing", Warns, "Strangers do not administer devices.", onDevice(adminFromOutside)},
	{"ntp-not-permitted", "Options", Warns, "An interface lets its network's questions for the time in.",
		inNetwork(ntpNotPermitted)},
	{"route-through-client", "Options", Warns, "A route leads by a router.", inNetwork(routeThroughClient)},
	{"fixed-mac-twice", "Addressing", Warns, "A MAC is one fixed device's.",
		finder{site: fixedMACTwice, afterHolders: true}},
	{"known-twice", "Addressing", Notes, "A client is recorded once.", finder{site: knownTwice, afterHolders: true}},
	{"open-resolver", "Names", Blocks, "A resolver answers the site alone.", ofNames(openResolver)},
}
