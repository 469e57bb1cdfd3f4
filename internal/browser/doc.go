// Package browser holds the tests that use Lithos as a technician does: the real
// application on a real database with the simulated devices, driven in Chromium.
package browser
