package core_test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers are the packages from the ground up; a package may import only its own
// layer's and lower ones.
var layers = []string{
	"lithos/core",
	"lithos/internal/order lithos/internal/actor lithos/internal/store lithos/internal/device " +
		"lithos/internal/standin lithos/internal/postgres lithos/internal/report lithos/internal/outbound " +
		"lithos/internal/zonetransfer lithos/web",
	"lithos/internal/draft lithos/internal/push lithos/internal/poll lithos/internal/view lithos/internal/accounts " +
		"lithos/internal/sites lithos/internal/moves",
	"lithos/internal/work",
	"lithos/internal/api lithos/internal/demo",
	"lithos/cmd lithos/internal/browser lithos/scripts",
}

// useCases do not know each other: what one needs of another is a small interface of
// its own, which package work fills in.
var useCases = []string{
	"lithos/internal/draft", "lithos/internal/push", "lithos/internal/poll", "lithos/internal/view",
	"lithos/internal/accounts", "lithos/internal/sites", "lithos/internal/moves",
}

// apart are packages of one layer that must not know each other.
var apart = map[string][]string{
	"lithos/internal/standin": {"lithos/internal/store", "lithos/internal/device", "lithos/core/scenario"},
	"lithos/internal/device":  {"lithos/internal/store", "lithos/internal/standin"},
	"lithos/internal/store":   {"lithos/internal/device", "lithos/internal/standin"},
	"lithos/internal/order":   {"lithos/internal/store", "lithos/internal/device", "lithos/internal/store/gen"},
	"lithos/internal/view":    {"lithos/internal/store", "lithos/internal/device"},
	"lithos/core/drawing":     {"lithos/core/edit"},
	"lithos/core/compile":     {"lithos/core/dhcp"},
}

// rows are what the database gives. They stay among those who ask it.
const rows = "lithos/internal/store/gen"

var noRows = []string{"lithos/internal/order", "lithos/internal/view", "lithos/internal/work", "lithos/internal/api",
	"lithos/internal/demo", "lithos/cmd"}

// corePackages are the modules core may stand on beside the standard library.
var corePackages = []string{"go4.org/netipx", "github.com/insomniacslk/dhcp", "go.yaml.in/yaml/v3",
	"github.com/santhosh-tekuri/jsonschema/v6", "github.com/miekg/dns", "golang.org/x/net/publicsuffix"}

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
// What draws edits for tests, or compares words with a file, is for tests alone.
func TestCoreStandsOnLittle(t *testing.T) {
	forTests := []string{"lithos/core/edit/edittest", "lithos/core/wordstest"}
	imports := `{{$own := .ImportPath}}{{range .Imports}}{{$own}}>{{.}}{{"\n"}}{{end}}`
	for _, one := range deps(t, "lithos/core/...", "-f", imports) {
		own, dep, _ := strings.Cut(one, ">")
		if slices.Contains(forTests, own) {
			continue
		}
		assert.NotContains(t, forTests, dep, own)
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
	imports := `{{$own := .ImportPath}}{{$own}}>{{range .Imports}}{{"\n"}}{{$own}}>{{.}}{{end}}`
	for _, one := range deps(t, "lithos/...", "-f", imports) {
		pkg, dep, _ := strings.Cut(one, ">")
		if strings.Contains(pkg, "/node_modules/") {
			continue // not ours: a front-end package that brings a Go file along
		}
		own := layerOf(pkg)
		assert.GreaterOrEqual(t, own, 0, "%s is in no layer: add it to the list", pkg)
		assert.LessOrEqual(t, layerOf(dep), own, "%s imports %s, which is above it", pkg, dep)
		for _, other := range apart[pkg] {
			assert.NotEqual(t, other, dep, "%s imports %s", pkg, dep)
		}
		if slices.Contains(useCases, pkg) && slices.Contains(useCases, dep) {
			t.Errorf("%s imports %s, another use case", pkg, dep)
		}
		if dep == rows && slices.ContainsFunc(noRows, func(p string) bool { return under(pkg, p) }) {
			t.Errorf("%s imports the rows of the database", pkg)
		}
	}
}
