package poll

import (
	"context"
	"sync"
	"time"
)

// watched are the sites that browsers show now. A site that several show is read once for all of them.
type watched struct {
	mu    sync.Mutex
	sites map[string]*watchedSite
}

type watchedSite struct {
	by   int // browsers
	stop context.CancelFunc
}

// Watch has the devices of a site be read in short intervals, because somebody looks at it, until stop is called.
func (s *Service) Watch(siteID string) (stop func()) {
	s.watched.mu.Lock()
	defer s.watched.mu.Unlock()
	w := s.watched.sites[siteID]
	if w == nil {
		ctx, cancel := context.WithCancel(s.life)
		w = &watchedSite{stop: cancel}
		s.watched.sites[siteID] = w
		go s.keepReading(ctx, siteID)
	}
	w.by++
	return sync.OnceFunc(func() {
		s.watched.mu.Lock()
		defer s.watched.mu.Unlock()
		if w.by--; w.by == 0 {
			w.stop()
			delete(s.watched.sites, siteID)
		}
	})
}

func (s *Service) keepReading(ctx context.Context, siteID string) {
	tick := time.NewTicker(s.WatchedEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		s.observeThose(ctx, siteID, due)
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
}
