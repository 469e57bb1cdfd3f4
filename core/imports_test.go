package core_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers are the packages from the ground up; a package may import only its own
// layer's and lower ones.
var layers = []string{"lithos/core", "lithos/internal/store lithos/internal/device lithos/internal/standin lithos/internal/postgres", "lithos/internal/work", "lithos/internal/api lithos/internal/demo", "lithos/cmd"}

// apart are packages of one layer that must not know each other.
var apart = map[string][]string{
	"lithos/internal/standin": {"lithos/internal/store", "lithos/internal/device"},
	"lithos/internal/device":  {"lithos/internal/store", "lithos/internal/standin"},
	"lithos/internal/store":   {"lithos/internal/device", "lithos/internal/standin"},
}

// corePackages are the modules core may stand on beside the standard library.
var corePackages = []string{"go4.org/netipx", "github.com/insomniacslk/dhcp", "go.yaml.in/yaml/v3"}

func deps(t *testing.T, pattern string, args ...string) []string {
	t.Helper()
	out, err := exec.Command("go", append(append([]string{"list"}, args...), pattern)...).Output()
	require.NoError(t, err)
	return strings.Fields(string(out))
}

func under(path, prefix string) bool { return path == prefix || strings.HasPrefix(path, prefix+"/") }

func layerOf(path string) int {
	for i, layer := range layers {
		for prefix := range strings.FieldsSeq(layer) {
			if under(path, prefix) {
				return i
			}
		}
	}
	return -1
}

// Core's own files import the standard library, each other and the few listed modules.
func TestCoreStandsOnLittle(t *testing.T) {
	for _, dep := range deps(t, "lithos/core/...", "-f", `{{join .Imports "\n"}}`) {
		if first, _, _ := strings.Cut(dep, "/"); !strings.Contains(first, ".") && first != "lithos" {
			continue // standard library
		}
		ok := under(dep, "lithos/core")
		for _, allowed := range corePackages {
			ok = ok || under(dep, allowed)
		}
		assert.True(t, ok, "core imports %s", dep)
		assert.NotContains(t, dep, "net/http")
	}
}

func TestImportsPointDownward(t *testing.T) {
	for _, pkg := range deps(t, "lithos/...") {
		own := layerOf(pkg)
		if own < 0 {
			continue
		}
		for _, dep := range deps(t, pkg, "-f", `{{join .Imports "\n"}}`) {
			if l := layerOf(dep); l > own {
				t.Errorf("%s imports %s, which is above it", pkg, dep)
			}
			for _, other := range apart[pkg] {
				assert.NotEqual(t, other, dep, "%s imports %s", pkg, dep)
			}
		}
	}
}
