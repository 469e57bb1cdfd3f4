// Package core and those below it are the computation of Lithos: no database,
// no HTTP, no clock, and no goroutine that outlives a call.
package core
