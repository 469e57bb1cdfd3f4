package names

import (
	"cmp"
	"container/list"
	"slices"
	"sync"
	"time"

	"github.com/miekg/dns"

	"lithos/core/yang"
	"lithos/core/zone"
)

// Cache is what a resolver remembers of answers of other servers. It may be used by several
// goroutines.
type Cache struct {
	mu   sync.Mutex
	most int
	by   map[cacheKey]*list.Element
	used list.List // the least recently used last
}

type cacheKey struct {
	name  string
	typ   uint16
	proof bool // kept with its signatures, for checking others
}

type cacheEntry struct {
	cacheKey
	code    int
	answer  []dns.RR
	soa     []dns.RR
	sigs    []dns.RR
	secure  bool
	message *dns.Msg // whole, of a proof
	at      time.Time
	expires time.Time
}

// NewCache is an empty cache of at most that many answers.
func NewCache(most int) *Cache { return &Cache{most: most, by: map[cacheKey]*list.Element{}} }

// Resize changes how many answers are kept.
func (c *Cache) Resize(most int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.most = most
	c.trim()
}

func (c *Cache) trim() {
	for len(c.by) > c.most {
		last := c.used.Back()
		delete(c.by, last.Value.(*cacheEntry).cacheKey)
		c.used.Remove(last)
	}
}

// Entries lists what has not expired, by name.
func (c *Cache) Entries(now time.Time) []yang.Answer {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []yang.Answer{}
	for _, e := range c.by {
		k := e.Value.(*cacheEntry)
		if !k.expires.After(now) || k.proof && c.by[cacheKey{name: k.name, typ: k.typ}] != nil {
			continue
		}
		one := yang.Answer{Name: cmp.Or(k.name, "."), Type: dns.TypeToString[k.typ], Code: dns.RcodeToString[k.code],
			TTL: uint32(k.expires.Sub(now) / time.Second)}
		if k.typ == dns.TypeNone {
			one.Type = "any"
		}
		for _, rr := range k.answer {
			one.Data = append(one.Data, zone.DataOf(rr, ""))
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b yang.Answer) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Type, b.Type))
	})
	return out
}

// Flush forgets one name with all its types, the root being a dot, or everything where the name is empty.
// It says how many answers that were.
func (c *Cache) Flush(name string) (flushed int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for key, e := range c.by {
		if name == "" || cmp.Or(key.name, ".") == name {
			delete(c.by, key)
			c.used.Remove(e)
			flushed++
		}
	}
	return flushed
}

// get finds an answer, with its TTLs run down. That a name is not there holds for all below it (RFC
// 8020).
func (c *Cache) get(now time.Time, name string, typ uint16) (k cacheEntry, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.by) == 0 {
		return cacheEntry{}, false
	}
	if found := c.live(now, cacheKey{name: name, typ: typ}); found != nil {
		return found.aged(now), true
	}
	for at := name; at != ""; {
		if found := c.live(now, cacheKey{name: at, typ: dns.TypeNone}); found != nil {
			return found.aged(now), true
		}
		at = zone.Above(at)
	}
	return cacheEntry{}, false
}

func (c *Cache) live(now time.Time, key cacheKey) *cacheEntry {
	e := c.by[key]
	if e == nil {
		return nil
	}
	k := e.Value.(*cacheEntry)
	if !k.expires.After(now) {
		delete(c.by, key)
		c.used.Remove(e)
		return nil
	}
	c.used.MoveToFront(e)
	return k
}

func (k *cacheEntry) aged(now time.Time) cacheEntry {
	out := *k
	gone := uint32(max(0, now.Sub(k.at)) / time.Second)
	age := func(list []dns.RR) []dns.RR {
		aged := make([]dns.RR, len(list))
		for i, rr := range list {
			aged[i] = dns.Copy(rr)
			if h := aged[i].Header(); h.Ttl > gone {
				h.Ttl -= gone
			} else {
				h.Ttl = 0
			}
		}
		return aged
	}
	out.answer, out.soa = age(k.answer), age(k.soa)
	return out
}

// put keeps an answer for ttl. An answer that says that a name is not there is kept for every type.
func (c *Cache) put(now time.Time, name string, typ uint16, r result, ttl time.Duration) {
	if ttl <= 0 {
		return
	}
	if r.code == dns.RcodeNameError && len(r.answer) == 0 {
		typ = dns.TypeNone
	}
	k := &cacheEntry{
		cacheKey: cacheKey{name: name, typ: typ},
		code:     r.code,
		answer:   r.answer,
		soa:      r.soa,
		sigs:     r.sigs,
		secure:   r.secure,
		at:       now,
		expires:  now.Add(ttl),
	}
	c.keep(k)
}

// proof finds the whole message of an answer that others are checked with.
func (c *Cache) proof(now time.Time, name string, typ uint16) *dns.Msg {
	c.mu.Lock()
	defer c.mu.Unlock()
	if k := c.live(now, cacheKey{name: name, typ: typ, proof: true}); k != nil {
		return k.message
	}
	return nil
}

// putProof keeps the whole message of an answer that others are checked with.
func (c *Cache) putProof(now time.Time, name string, typ uint16, r result, m *dns.Msg, ttl time.Duration) {
	if ttl <= 0 {
		return
	}
	c.keep(&cacheEntry{cacheKey: cacheKey{name: name, typ: typ, proof: true}, code: r.code, answer: r.answer,
		message: m,
		at:      now, expires: now.Add(ttl)})
}

func (c *Cache) keep(k *cacheEntry) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if e := c.by[k.cacheKey]; e != nil {
		e.Value = k
		c.used.MoveToFront(e)
		return
	}
	c.by[k.cacheKey] = c.used.PushFront(k)
	c.trim()
}
