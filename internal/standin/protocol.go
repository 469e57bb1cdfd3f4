package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"time"

	"lithos/core/yang"
)

// library is the version of the YANG library the stand-ins speak of themselves by (RFC 8525).
const library = "2019-01-04"

// hostMeta says where RESTCONF begins (RFC 8040 section 3.1).
func hostMeta(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/xrd+xml")
	_, _ = w.Write([]byte(`<XRD xmlns="http://docs.oasis-open.org/ns/xri/xrd-1.0">` +
		`<Link rel="restconf" href="/restconf"/></XRD>` + "\n"))
}

// root is the resource of RFC 8040 section 3.3.
func root(w http.ResponseWriter, _ *http.Request) {
	operations := map[string][]any{}
	for _, name := range []string{"begin", "confirm", "cancel", "change", "keep-secret", "ping", "tell-name"} {
		operations["lithos-config:"+name] = []any{nil}
	}
	write(w, http.StatusOK, map[string]any{"ietf-restconf:restconf": map[string]any{
		"data": map[string]any{}, "operations": operations, "yang-library-version": library,
	}})
}

// yangLibrary lists the modules (RFC 8525 section 3).
func (s *schema) yangLibrary() map[string]any {
	var list []any
	for _, m := range s.names {
		entry := map[string]any{"name": m.name, "namespace": m.namespace}
		if m.revision != "" {
			entry["revision"] = m.revision
		}
		list = append(list, entry)
	}
	store := func(name string) map[string]any {
		return map[string]any{"name": "ietf-datastores:" + name, "schema": "all"}
	}
	return map[string]any{
		"module-set": []any{map[string]any{"name": "all", "module": list}},
		"schema":     []any{map[string]any{"name": "all", "module-set": []string{"all"}}},
		"datastore":  []any{store("running"), store("startup"), store("operational")},
		"content-id": fmt.Sprint(len(list)) + "-" + library,
	}
}

// below finds the node of a path in a tree of data (RFC 8040 section 3.5.3).
func below(tree any, p string) (member string, node any, err error) {
	in := ""
	node = tree
	for segment := range strings.SplitSeq(strings.Trim(p, "/"), "/") {
		name, key, keyed := strings.Cut(segment, "=")
		name, errName := url.PathUnescape(name)
		key, errKey := url.PathUnescape(key)
		members, ok := node.(map[string]any)
		if node, ok = members[name], ok && members[name] != nil; !ok || errors.Join(errName, errKey) != nil {
			return "", nil, &wrong{"invalid-value", "/" + strings.Trim(p, "/"), "there is no such node"}
		}
		if at, local, qualified := strings.Cut(name, ":"); qualified {
			in, name = at, local
		}
		member = in + ":" + name
		if !keyed {
			continue
		}
		e, _, err := modules().entryAt(pathTo(p, segment))
		list, isList := node.([]any)
		if err != nil || !isList {
			return "", nil, &wrong{"invalid-value", p, name + " is no list"}
		}
		node = nil
		for _, entry := range list {
			if members, ok := entry.(map[string]any); ok && fmt.Sprint(members[e.Key]) == key {
				node = members
			}
		}
		if node == nil {
			return "", nil, &wrong{"invalid-value", p, fmt.Sprintf("there is no %s %s", name, key)}
		}
	}
	if _, is := node.(map[string]any); is && strings.Contains(p[strings.LastIndexByte(p, '/')+1:], "=") {
		node = []any{node} // an entry of a list comes as a list of one (RFC 8040 section 4.3)
	}
	return member, node, nil
}

// pathTo is a path up to and with a segment.
func pathTo(p, segment string) string {
	return p[:strings.Index(p, segment)+len(segment)]
}

// getBelow answers for a node below the data resource.
func (d *Device) getBelow(w http.ResponseWriter, r *http.Request) {
	p := strings.TrimPrefix(r.URL.EscapedPath(), "/restconf/data")
	d.mu.Lock()
	defer d.mu.Unlock()
	var tree any = d.running
	switch content := r.URL.Query().Get("content"); content {
	case "nonconfig":
		state := d.operational()
		state.Resolver = d.resolverState() // only where it is asked for: a cache is large
		tree = state
	case "", "all", "config":
		w.Header().Set("ETag", tagOf(d.running))
		w.Header().Set("Last-Modified", d.changed.UTC().Format(http.TimeFormat))
	default:
		refuse(
			w,
			http.StatusBadRequest,
			"invalid-value",
			fmt.Sprintf("content=%s is none of all, config, nonconfig", content),
		)
		return
	}
	if strings.HasPrefix(strings.Trim(p, "/"), "ietf-yang-library:yang-library") {
		tree = map[string]any{"ietf-yang-library:yang-library": d.schema.yangLibrary()}
	} else if _, _, err := d.schema.entryAt(p); err != nil {
		refuseFor(w, err)
		return
	}
	raw, err := json.Marshal(tree)
	var doc any
	if err = errors.Join(err, json.Unmarshal(raw, &doc)); err != nil {
		refuse(w, http.StatusInternalServerError, "operation-failed", err.Error())
		return
	}
	member, node, err := below(doc, p)
	if err != nil {
		refuse(w, http.StatusNotFound, "invalid-value", err.Error())
		return
	}
	write(w, http.StatusOK, map[string]any{member: node})
}

// refuseFor refuses with what an error says of itself, or with the tag that data which does not fit the modules has.
func refuseFor(w http.ResponseWriter, err error) {
	var why *refused
	var bad *wrong
	switch {
	case errors.As(err, &why):
		refuse(w, why.status, why.tag, why.says)
	case errors.As(err, &bad):
		refuseAt(w, http.StatusBadRequest, bad.tag, bad.path, bad.says)
	default:
		refuse(w, http.StatusBadRequest, "malformed-message", err.Error())
	}
}

// unmet is why the preconditions of a request do not hold for the running configuration
// (RFC 8040 section 3.4.1, RFC 9110 section 13), empty when they do.
func (d *Device) unmet(r *http.Request) string {
	tag := tagOf(d.running)
	if match := r.Header.Get("If-Match"); match != "" && !named(match, tag) {
		return "The running configuration was changed by somebody else: its entity tag is another."
	}
	if none := r.Header.Get("If-None-Match"); none != "" && named(none, tag) {
		return "The running configuration has the entity tag that it must not have."
	}
	since, err := http.ParseTime(r.Header.Get("If-Unmodified-Since"))
	if err == nil && d.changed.Truncate(time.Second).After(since) {
		return "The running configuration was changed after the time given."
	}
	return ""
}

// named reports whether a header lists an entity tag, or any.
func named(header, tag string) bool {
	for item := range strings.SplitSeq(header, ",") {
		if item = strings.TrimSpace(item); item == "*" || strings.TrimPrefix(item, "W/") == tag {
			return true
		}
	}
	return false
}

// isYANG reports whether a request says that its body is data in JSON; it refuses it when not.
func isYANG(w http.ResponseWriter, r *http.Request) bool {
	wanted := mediaType
	if r.Method == http.MethodPatch {
		wanted = patchType
	}
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err == nil && kind == wanted {
		return true
	}
	w.Header().Set("Accept", wanted)
	refuse(w, http.StatusUnsupportedMediaType, "invalid-value", "The body must be "+wanted+".")
	return false
}

// holdsNode reports whether a configuration has the node at a path.
func holdsNode(c yang.Config, p string) bool {
	raw, err := json.Marshal(c)
	var doc any
	if err = errors.Join(err, json.Unmarshal(raw, &doc)); err != nil {
		return false
	}
	_, _, err = below(doc, p)
	return err == nil
}
