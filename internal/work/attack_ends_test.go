package work_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/push"
	"lithos/internal/standin"
)

// A run whose hold is taken away stops, writes nothing more, and the push lands once.
func TestAttackLostHoldRunsAPushTwice(t *testing.T) {
	t.Parallel()
	o := open(t)
	o.Pushes.Timing.HoldFor = 2 * time.Second
	run(t, o.Service)
	gw := o.devices.ByID["dev-gw-1"]
	id := o.order()
	o.bigger(id)
	gw.Inject(standin.Faults{HoldWrite: 2})
	require.NoError(t, o.pushAll(o.Service, id))
	o.pushUntil(o.Service, id, "the second step", func(p *push.PushView) bool { return len(p.Journal) == 4 })
	o.exec("UPDATE push SET held_by = 'somebody else', held_until = now() + interval '1 hour'")
	gw.Inject(standin.Faults{})
	require.Eventually(t, func() bool { return strings.Contains(o.log.String(), "the hold on a push is lost") },
		time.Minute, 10*time.Millisecond)
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "running", v.Push.State, "the run that lost it ended nothing")
	assert.Len(t, v.Push.Journal, 4, "and wrote nothing")
	o.exec("UPDATE push SET held_by = '', held_until = 'epoch'")
	v = o.waitPush(o.Service, id)
	assert.Equal(t, "landed", v.Push.State, v.Push.Problem)
	history, err := o.Sites.History(t.Context(), "kelder-bridge")
	require.NoError(t, err)
	assert.Len(t, history, 2, "the revision landed once")
}
