package cli

import (
	"encoding/json"
	"flag"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// remembered is what a login to a server leaves for the next commands.
type remembered struct {
	Name   string `json:"name"` // by which a person calls the server
	Server string `json:"server"`
	Token  string `json:"token,omitempty"`
	Pin    string `json:"pin,omitempty"` // of the server's key, where a person accepted it
}

// servers are all that are remembered, and which of them is asked unless another is named.
type servers struct {
	Using   string       `json:"using"`
	Servers []remembered `json:"servers"`
}

func (s servers) named(name string) (remembered, bool) {
	i := slices.IndexFunc(s.Servers, func(r remembered) bool { return r.Name == name })
	if i < 0 {
		return remembered{}, false
	}
	return s.Servers[i], true
}

// at gives what is remembered of the server at an address.
func (s servers) at(server string) remembered {
	i := slices.IndexFunc(s.Servers, func(r remembered) bool { return r.Server == server })
	if i < 0 {
		return remembered{}
	}
	return s.Servers[i]
}

func (a *app) sessionFile() string {
	dir := a.getenv("XDG_CONFIG_HOME")
	if dir == "" {
		dir = filepath.Join(a.getenv("HOME"), ".config")
	}
	return filepath.Join(dir, "oaken-latch", "session.json")
}

// known reads what is remembered; a broken file is as good as none. One server alone is how it was before there
// were several.
func (a *app) known() servers {
	var s struct {
		servers
		remembered
	}
	b, err := os.ReadFile(a.sessionFile())
	if err != nil || json.Unmarshal(b, &s) != nil {
		return servers{}
	}
	if one := s.remembered; one.Server != "" && len(s.Servers) == 0 {
		one.Name = hostOf(one.Server)
		return servers{Using: one.Name, Servers: []remembered{one}}
	}
	return s.servers
}

// settings fills in server and token: flag, then environment, then login. A token goes only to the server it came from.
func (a *app) settings() {
	all := a.known()
	if a.server == "" {
		a.server = a.getenv("OAKEN_LATCH_SERVER")
	}
	if a.server == "" {
		r, _ := all.named(all.Using)
		a.server = r.Server
	}
	a.server = strings.TrimRight(a.server, "/")
	r := all.at(a.server)
	if a.token = a.getenv("OAKEN_LATCH_TOKEN"); a.token == "" {
		a.token = r.Token
	}
	if a.pin = a.getenv("OAKEN_LATCH_PIN"); a.pin == "" {
		a.pin = r.Pin
	}
}

// remember keeps what a login left, under a name or the one it has, and has the server asked from now on.
func (a *app) remember(r remembered) error {
	all := a.known()
	old := all.at(r.Server)
	if r.Name == "" {
		r.Name = old.Name
	}
	if r.Name == "" {
		r.Name = hostOf(r.Server)
	}
	if _, taken := all.named(r.Name); taken && old.Name != r.Name {
		r.Name = r.Server
	}
	all.Servers = slices.DeleteFunc(all.Servers, func(x remembered) bool {
		return x.Server == r.Server || x.Name == r.Name
	})
	all.Servers, all.Using = append(all.Servers, r), r.Name
	return a.keep(all)
}

// mayName refuses a name that another server has already: its session would be lost.
func (a *app) mayName(name string) error {
	if r, taken := a.known().named(name); taken && r.Server != a.server {
		return wrongUse("%s is %s here already; take another name, or: latch use %s --forget", name, r.Server, name)
	}
	return nil
}

// hostOf calls a server by its host and port.
func hostOf(server string) string {
	if u, err := url.Parse(server); err == nil && u.Host != "" {
		return u.Host
	}
	return server
}

func (a *app) keep(all servers) error {
	file := a.sessionFile()
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	b, err := json.Marshal(all)
	if err != nil {
		return err
	}
	tmp := file + ".new"
	if err := os.WriteFile(tmp, b, 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, file)
}

// use picks the server that is asked from now on, or lists those that are known.
func use(a *app, fs *flag.FlagSet) func([]string) error {
	forget := fs.Bool("forget", false, "forget it instead, with the session there; sign out first to end that")
	return func(args []string) error {
		all := a.known()
		if len(args) == 0 {
			if *forget {
				return wrongUse("forget which? latch use lists them")
			}
			return a.listServers(all)
		}
		r, ok := all.named(args[0])
		if !ok {
			return wrongUse(
				"no server is called %q here; latch use lists those there are; a new one: latch login --server URL "+
					"--user NAME --name %s", args[0], args[0],
			)
		}
		if *forget {
			all.Servers = slices.DeleteFunc(all.Servers, func(x remembered) bool { return x.Name == r.Name })
			if all.Using == r.Name {
				all.Using = ""
			}
		} else {
			all.Using = r.Name
		}
		if err := a.keep(all); err != nil {
			return err
		}
		return a.show(struct {
			Name   string `json:"name"`
			Server string `json:"server"`
			Using  bool   `json:"using"`
		}{r.Name, r.Server, !*forget}, func() {
			if *forget {
				a.printf("Forgot %s, %s.\n", r.Name, r.Server)
				return
			}
			a.printf("From now on %s is asked, %s.\n", r.Name, r.Server)
			if other := a.getenv("OAKEN_LATCH_SERVER"); other != "" && other != r.Server {
				a.printf("In this shell OAKEN_LATCH_SERVER goes before: it names %s\n", other)
			}
			if r.Token == "" {
				a.printf("Nobody is signed in there: latch login --user NAME\n")
			}
		})
	}
}

func (a *app) listServers(all servers) error {
	type known struct {
		Name     string `json:"name"`
		Server   string `json:"server"`
		SignedIn bool   `json:"signedIn"`
		Using    bool   `json:"using"`
	}
	list := make([]known, 0, len(all.Servers))
	for _, r := range all.Servers {
		list = append(list, known{r.Name, r.Server, r.Token != "", r.Name == all.Using})
	}
	slices.SortFunc(list, func(x, y known) int { return strings.Compare(x.Name, y.Name) })
	return a.show(list, func() {
		if len(list) == 0 {
			a.printf("No server is known here yet. Next: latch login --server URL --user NAME\n")
			return
		}
		rows := make([][]string, len(list))
		for i, k := range list {
			mark, session := "", "signed out"
			if k.Using {
				mark = "→"
			}
			if k.SignedIn {
				session = "signed in"
			}
			rows[i] = []string{mark, k.Name, k.Server, session}
		}
		a.table([]string{"", "NAME", "SERVER", "SESSION"}, rows)
	})
}
