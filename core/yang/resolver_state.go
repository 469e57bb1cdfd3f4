package yang

import (
	"slices"
	"time"
)

// ResolverState is the operational state of a device's resolver.
type ResolverState struct {
	Counters ResolverCounters `json:"counters"`
	Answer   []Answer         `json:"answer,omitempty"`
	Listener []Listener       `json:"listener,omitempty"`
	// WrittenUntil is when questions are no longer written down; zero where they are not for a time.
	WrittenUntil time.Time  `json:"written-until,omitzero"`
	Question     []Question `json:"question,omitempty"` // the newest first
}

// ResolverCounters count questions since the resolver was last made anew.
type ResolverCounters struct {
	Asked     uint32 `json:"asked"`
	FromCache uint32 `json:"from-cache"`
	Forwarded uint32 `json:"forwarded"`
	Refused   uint32 `json:"refused"`
	Failed    uint32 `json:"failed"`
}

// Answer is one answer that the cache holds. TTL is in seconds, what is left.
type Answer struct {
	Name string   `json:"name"`
	Type string   `json:"type"`
	Code string   `json:"code"`
	Data []string `json:"data,omitempty"`
	TTL  uint32   `json:"ttl"`
}

// Listener is what listens for questions.
type Listener struct {
	Port      int      `json:"port"`
	Protocol  string   `json:"protocol"`
	Program   string   `json:"program"`
	Interface []string `json:"interface,omitempty"`
	Other     bool     `json:"other,omitempty"` // another program than the device's resolver
}

// Others are the programs beside the resolver that listen.
func (s *ResolverState) Others() []Program {
	out := []Program{}
	if s == nil {
		return out
	}
	for _, l := range s.Listener {
		p := Program{Name: l.Program, Port: l.Port, Runs: true}
		if l.Other && !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}

// Question is a question that was written down.
type Question struct {
	Number       uint64    `json:"number"`
	At           time.Time `json:"at"`
	From         string    `json:"from,omitempty"`
	Name         string    `json:"name"`
	Type         string    `json:"type"`
	Code         string    `json:"code"`
	Data         string    `json:"data,omitempty"`
	Layer        string    `json:"layer"`
	Microseconds int64     `json:"microseconds"`
}
