package sequence

import (
	"container/heap"
	"fmt"
	"slices"
)

// What a state costs by what is wrong in it, and what it costs to go on at another device than before. A device that is
// lost is worse than any number of collisions, and those than any number of networks without an answer.
var costs = map[string]int{Lost: 1_000_000, Collides: 10_000, Unserved: 10}

const (
	elsewhere = 1
	early     = 3 // for each move behind one that changed Lithos's own way to a device
)

// mostJudged bounds how many states are looked at in search of the best order. Behind it the cheapest next move
// is taken each time, so that a plan is always found.
const mostJudged = 1500

// upTo is where a chain is after its next move: behind its next step that concerns who is reached and served, or
// at its end where none is left.
func (c chain) upTo(at int) int {
	for k := at; k < len(c.steps); k++ {
		if concerns(c.steps[k]) {
			return k + 1
		}
	}
	return len(c.steps)
}

// node is a state, and the moves that lead to it.
type node struct {
	at    []int
	moves []int // which chain went on
	cost  int
}

func (n node) last() int {
	if len(n.moves) == 0 {
		return -1
	}
	return n.moves[len(n.moves)-1]
}

type queue []node

func (q queue) Len() int      { return len(q) }
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q queue) Less(i, j int) bool {
	a, b := q[i], q[j]
	if a.cost != b.cost {
		return a.cost < b.cost
	}
	if len(a.moves) != len(b.moves) {
		return len(a.moves) > len(b.moves)
	}
	return slices.Compare(a.moves, b.moves) < 0
}
func (q *queue) Push(x any) { *q = append(*q, x.(node)) }
func (q *queue) Pop() any {
	old := *q
	last := old[len(old)-1]
	*q = old[:len(old)-1]
	return last
}

// search finds the moves that cost least (Dijkstra's algorithm over the states). Once more than so many states are
// known it goes on from where it is, each time by the cheapest move.
func (w *world) search(most int) (moves []int, cost int) {
	q := &queue{{at: make([]int, len(w.chains))}}
	done := map[string]bool{}
	for q.Len() > 0 {
		n := heap.Pop(q).(node)
		key := fmt.Sprint(n.at, n.last())
		many := len(w.known) > most
		if done[key] && !many {
			continue
		}
		done[key] = true
		if many {
			// From here on the only way is this one: a state that was passed before is passed again.
			*q = (*q)[:0]
		}
		ended := true
		for _, i := range w.next(n.at) {
			ended = false
			at := slices.Clone(n.at)
			at[i] = w.chains[i].upTo(at[i])
			next := node{at: at, moves: append(slices.Clone(n.moves), i), cost: n.cost}
			if n.last() >= 0 && n.last() != i {
				next.cost += elsewhere
			}
			v := w.judge(at)
			for _, t := range v.troubles {
				next.cost += costs[t.kind]
			}
			if v.early {
				next.cost += early
			}
			heap.Push(q, next)
		}
		if ended {
			return n.moves, n.cost
		}
	}
	return nil, 0
}

// next lists the chains that can go on: those by hand before all others.
func (w *world) next(at []int) []int {
	var hand, rest []int
	for i, c := range w.chains {
		switch {
		case at[i] == len(c.steps):
		case c.ByHand:
			hand = append(hand, i)
		default:
			rest = append(rest, i)
		}
	}
	if len(hand) > 0 {
		return hand
	}
	return rest
}
