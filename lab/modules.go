package lab

import (
	"embed"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"oakenlatch/core/schema"
)

//go:embed modules/*.yang
var moduleFiles embed.FS

// moduleSet is the modules a kind of device hands out.
type moduleSet struct {
	sources []schema.Source
	schema  *schema.Schema
}

// features are what the lab's devices support of their modules.
var features = map[string][]string{"ietf-system": {"ntp"}}

var sets sync.Map // names joined -> *moduleSet

// common are the modules of every device.
var common = []string{
	"ietf-yang-types", "ietf-inet-types", "iana-if-type", "iana-crypt-hash", "ietf-netconf-acm", "ietf-interfaces",
	"ietf-ip", "ietf-system", "ietf-routing", "ietf-ipv4-unicast-routing", "ietf-ipv6-unicast-routing",
	"ietf-netconf-monitoring", "ietf-hardware", "ietf-keystore", "oaken-lab-tunnels",
}

// modules compiles a set once; devices of one kind share it.
func modules(extra ...string) (*moduleSet, error) {
	names := slices.Concat(common, extra)
	key := strings.Join(names, " ")
	if have, ok := sets.Load(key); ok {
		return have.(*moduleSet), nil
	}
	set := &moduleSet{}
	for _, name := range names {
		text, err := fs.ReadFile(moduleFiles, "modules/"+name+".yang")
		if err != nil {
			return nil, fmt.Errorf("the lab has no module %s: %w", name, err)
		}
		set.sources = append(set.sources, schema.Source{Name: name, Text: string(text)})
	}
	set.schema = schema.Compile(set.sources, schema.Options{Features: features})
	if len(set.schema.Problems) > 0 {
		return nil, fmt.Errorf("the lab's modules do not compile: %v", set.schema.Problems)
	}
	have, _ := sets.LoadOrStore(key, set)
	return have.(*moduleSet), nil
}

// text gives a module's source by name and, where one is given, revision.
func (m *moduleSet) text(name, revision string) (string, bool) {
	mod := m.schema.ModuleByName(name)
	if mod == nil || revision != "" && revision != mod.Revision {
		return "", false
	}
	for _, s := range m.sources {
		if s.Name == name {
			return s.Text, true
		}
	}
	return "", false
}
