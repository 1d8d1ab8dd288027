package fleet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/check"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/store"
)

// ModuleSet is what a device's schema is compiled from.
type ModuleSet struct {
	Sources    []schema.Source
	Features   map[string][]string
	ImportOnly map[string]bool
	Missing    []string // announced or imported, but not handed out
}

func (m ModuleSet) Compile() *schema.Schema {
	s := schema.Compile(m.Sources, schema.Options{Features: m.Features, ImportOnly: m.ImportOnly})
	for _, name := range m.Missing {
		s.Problems = append(
			s.Problems, schema.Problem{Module: name, Msg: "the device names this module but does not hand it out"},
		)
	}
	s.Problems = append(s.Problems, check.Conditions(s)...)
	return s
}

// learn gives a session its schema: the known one where the device announces
// what it did before, otherwise from the modules it hands out.
func (f *Fleet) learn(ctx context.Context, s *Session) error {
	caps := slices.Clone([]string(s.Capabilities))
	sort.Strings(caps)
	sum := sha256.Sum256([]byte(strings.Join(caps, "\n")))
	list := hex.EncodeToString(sum[:])
	if list == s.Device.ModuleList {
		var err error
		s.Schema, err = f.Schema(ctx, s.Device)
		return err
	}
	// One at a time: there are servers that mix up what two sessions fetch at
	// once. Whoever comes second finds it done.
	learning := f.learning(s.Device.Name)
	learning.Lock()
	defer learning.Unlock()
	if now, err := f.store.DeviceByID(ctx, store.Everything, s.Device.ID); err == nil && now.ModuleList == list {
		s.Device = now
		s.Schema, err = f.Schema(ctx, now)
		return err
	}
	digest, body, err := f.modulesFor(ctx, s, list)
	if err != nil {
		return err
	}
	err = f.store.Write(ctx, func(tx *store.Tx) error {
		return tx.SetModules(s.Device.ID, list, digest, body, s.Capabilities)
	})
	if err != nil {
		return err
	}
	s.Device.ModuleList, s.Device.ModuleSet, s.Device.Capabilities = list, digest, s.Capabilities
	s.Schema, err = f.Schema(ctx, s.Device)
	return err
}

// modulesFor gives the module set of a device that announces a list: what
// another one handed out that announces the very same, down to each revision
// and feature, or else its own.
func (f *Fleet) modulesFor(ctx context.Context, s *Session, list string) (digest string, body []byte, err error) {
	if tellsAll(s.Capabilities) {
		digest, err = f.store.ModuleSetOf(ctx, list)
		if err == nil {
			body, err = f.store.ModuleSet(ctx, digest)
			return digest, body, err
		}
		if !errors.Is(err, store.ErrNotFound) {
			return "", nil, err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	set, err := f.fetch(ctx, s)
	if err != nil {
		return "", nil, s.Wrap("asking for its modules", err)
	}
	if body, err = json.Marshal(set); err != nil {
		return "", nil, err
	}
	sum := sha256.Sum256(body)
	return hex.EncodeToString(sum[:]), body, nil
}

// tellsAll reports whether a hello says which modules a device has, so that two
// that say the same have the same: each with its revision (RFC 6020 section
// 5.6.4) and no YANG library beside it, or the library's content by its id (RFC
// 8525 section 4, RFC 7950 section 5.6.4).
func tellsAll(caps netconf.Capabilities) bool {
	for _, c := range caps {
		if bare, query, _ := strings.Cut(c, "?"); strings.HasPrefix(
			bare, "urn:ietf:params:netconf:capability:yang-library:",
		) {
			return strings.Contains(query, "content-id=") || strings.Contains(query, "module-set-id=")
		}
	}
	list := caps.Modules()
	return len(list) > 0 && !slices.ContainsFunc(
		list, func(m netconf.ModuleCapability) bool { return m.Revision == "" },
	)
}

// learning gives the lock on learning a device's modules.
func (f *Fleet) learning(name string) *sync.Mutex {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.learners[name] == nil {
		f.learners[name] = &sync.Mutex{}
	}
	return f.learners[name]
}

// Schema gives the schema of a device that has been reached before; nil where
// it never was.
func (f *Fleet) Schema(ctx context.Context, d store.Device) (*schema.Schema, error) {
	if d.ModuleSet == "" {
		return nil, unlearnt(d)
	}
	return f.SchemaOf(ctx, d.ModuleSet)
}

// Nowhere says why something that is about devices and a path falls on nothing now: no device is among
// those, or none of them knows the path; "" where it falls on some.
func (f *Fleet) Nowhere(ctx context.Context, among func(store.Device) bool, path string) (string, error) {
	list, err := f.store.Devices(ctx, store.Everything)
	if err != nil {
		return "", err
	}
	list = slices.DeleteFunc(list, func(d store.Device) bool { return !among(d) })
	if len(list) == 0 {
		return "no device is such a one", nil
	}
	if path == "" {
		return "", nil
	}
	unlearnt := 0
	for _, d := range list {
		s, err := f.Schema(ctx, d)
		if err != nil {
			unlearnt++
			continue
		}
		if _, err := tree.ParsePath(s, path); err == nil {
			return "", nil
		}
	}
	if unlearnt > 0 {
		return "", nil // one that was not read yet may know it
	}
	return "none of those devices knows such a place", nil
}

// SchemaOf gives the schema of a module set by its digest.
func (f *Fleet) SchemaOf(ctx context.Context, digest string) (*schema.Schema, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if s := f.schemas[digest]; s != nil {
		return s, nil
	}
	set, err := f.moduleSet(ctx, digest)
	if err != nil {
		return nil, err
	}
	s := set.Compile()
	f.schemas[digest] = s
	return s, nil
}

func unlearnt(d store.Device) *Error {
	return &Error{d.Name, d.Address, Unreachable, "its modules are not known: it has never been reached",
		advice.Words("accept its host key and read it first").Do(advice.TrustDevice, d.Name), nil}
}

// Compiled gives the schema of a module set that is at hand.
func (f *Fleet) Compiled(digest string, set ModuleSet) *schema.Schema {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.schemas[digest] == nil {
		f.schemas[digest] = set.Compile()
	}
	return f.schemas[digest]
}

// Modules gives the modules that a device handed out.
func (f *Fleet) Modules(ctx context.Context, d store.Device) (ModuleSet, error) {
	if d.ModuleSet == "" {
		return ModuleSet{}, unlearnt(d)
	}
	return f.moduleSet(ctx, d.ModuleSet)
}

func (f *Fleet) moduleSet(ctx context.Context, digest string) (set ModuleSet, err error) {
	body, err := f.store.ModuleSet(ctx, digest)
	if err != nil {
		return set, err
	}
	if err := json.Unmarshal(body, &set); err != nil {
		return set, fmt.Errorf("module set %s: %w", digest, err)
	}
	return set, nil
}

// announced is a module as a device names it, in whatever way.
type announced struct{ name, revision string }

// wanted is the modules a device names: their revisions, "" where it names
// none, and which of them it implements.
type wanted struct {
	revision    map[string]string
	implemented map[string]bool
}

// named lists the modules a device names in its hello (RFC 6020 section 5.6.4)
// and its YANG library (RFC 7895, RFC 8525), or else in its monitoring data
// (RFC 6022). Features go into the set.
func named(ctx context.Context, s *Session, set *ModuleSet) (wanted, error) {
	w := wanted{map[string]string{}, map[string]bool{}}
	for _, m := range s.Capabilities.Modules() {
		w.revision[m.Name] = m.Revision
		w.implemented[m.Name] = true
		set.Features[m.Name] = append(set.Features[m.Name], m.Features...)
		for _, dev := range m.Deviations {
			if _, ok := w.revision[dev]; !ok {
				w.revision[dev] = ""
			}
			w.implemented[dev] = true
		}
	}
	lib, err := library(ctx, s)
	if err != nil {
		return w, err
	}
	for _, m := range lib {
		w.revision[m.name] = m.revision
		set.Features[m.name] = append(set.Features[m.name], m.features...)
		w.implemented[m.name] = w.implemented[m.name] || m.implemented
	}
	if len(w.revision) > 0 {
		return w, nil
	}
	mons, err := monitored(ctx, s)
	for _, m := range mons {
		w.revision[m.name] = max(w.revision[m.name], m.revision)
		w.implemented[m.name] = true
	}
	return w, err
}

// fetch gets all modules a device names, and those these import or include.
func (f *Fleet) fetch(ctx context.Context, s *Session) (ModuleSet, error) {
	set := ModuleSet{Features: map[string][]string{}, ImportOnly: map[string]bool{}}
	want, err := named(ctx, s, &set)
	if err != nil {
		return set, err
	}
	for done := map[string]bool{}; len(done) < len(want.revision); {
		var next []string
		for name := range want.revision {
			if !done[name] {
				next = append(next, name)
			}
		}
		sort.Strings(next)
		for _, name := range next {
			done[name] = true
			text, err := schemaText(ctx, s, name, want.revision[name])
			if netconf.Refused(err) {
				set.Missing = append(set.Missing, name)
				continue
			}
			if err != nil {
				return set, err
			}
			set.Sources = append(set.Sources, schema.Source{Name: name, Revision: want.revision[name], Text: text})
			for _, dep := range schema.Dependencies(text) {
				if _, known := want.revision[dep]; !known {
					want.revision[dep] = ""
				}
			}
		}
	}
	for name := range want.revision {
		if !want.implemented[name] {
			set.ImportOnly[name] = true
		}
	}
	for _, list := range set.Features {
		sort.Strings(list)
	}
	return set, nil
}

// schemaText asks for a module, and where the device does not know that
// revision, for whichever it has.
func schemaText(ctx context.Context, s *Session, name, revision string) (string, error) {
	text, err := s.GetSchema(ctx, name, revision, "yang")
	if revision != "" && netconf.Refused(err) {
		text, err = s.GetSchema(ctx, name, "", "yang")
	}
	return text, err
}

// monitored lists the modules of ietf-netconf-monitoring; servers that do not
// have it list none.
func monitored(ctx context.Context, s *Session) ([]announced, error) {
	data, err := s.Get(
		ctx, netconf.Filter(`<netconf-state xmlns="`+netconf.MonitoringNS+`"><schemas/></netconf-state>`),
	)
	if netconf.Refused(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []announced
	if list := data.Find("netconf-state", "schemas"); list != nil {
		for _, c := range list.Children {
			if f := c.Find("format").Value(); f != "yang" && !strings.HasSuffix(f, ":yang") {
				continue
			}
			out = append(out, announced{c.Find("identifier").Value(), c.Find("version").Value()})
		}
	}
	return out, nil
}

type libraryModule struct {
	announced
	features    []string
	implemented bool
}

const libraryNS = "urn:ietf:params:xml:ns:yang:ietf-yang-library"

// library reads the YANG library of a device that announces one; it is where
// YANG 1.1 modules are named (RFC 7950 section 5.6.4).
func library(ctx context.Context, s *Session) ([]libraryModule, error) {
	if !s.Capabilities.Has(
		"urn:ietf:params:netconf:capability:yang-library:1.0",
	) && !s.Capabilities.Has("urn:ietf:params:netconf:capability:yang-library:1.1") {
		return nil, nil
	}
	data, err := s.Get(
		ctx, netconf.Filter(`<modules-state xmlns="`+libraryNS+`"/><yang-library xmlns="`+libraryNS+`"/>`),
	)
	if netconf.Refused(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []libraryModule
	take := func(parent *markup.Element, importOnly string) {
		if parent == nil {
			return
		}
		for _, c := range parent.Children {
			if c.Name.Local != "module" && c.Name.Local != importOnly {
				continue
			}
			m := libraryModule{announced: announced{c.Find("name").Value(), c.Find("revision").Value()}}
			m.implemented = c.Name.Local == "module" && c.Find("conformance-type").Value() != "import"
			for _, x := range c.Children {
				switch x.Name.Local {
				case "feature":
					m.features = append(m.features, x.Value())
				case "submodule":
					out = append(
						out, libraryModule{announced: announced{x.Find("name").Value(), x.Find("revision").Value()}},
					)
				}
			}
			out = append(out, m)
		}
	}
	take(data.Find("modules-state"), "")
	if lib := data.Find("yang-library"); lib != nil {
		for _, c := range lib.Children {
			if c.Name.Local == "module-set" {
				take(c, "import-only-module")
			}
		}
	}
	return out, nil
}
