package kernel

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/lockout"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/test/pace"
)

// elsewhere is what says who is let in, of which no packet tells: the forecast calls a change of it unknown, which
// TestEveryLeafIsReadOrUnknown asks for.
var elsewhere = []string{"/system/radius", "/system/authentication/user/authorized-key"}

// understood are the modules of which the forecast claims to know what they mean.
var understood = []string{
	"ietf-interfaces", "ietf-ip", "ietf-system", "ietf-routing", "ietf-ipv4-unicast-routing",
	"ietf-ipv6-unicast-routing", "ietf-access-control-list", "ietf-netconf-server", "oaken-lab-vlans",
}

func yardSchema(t testing.TB) *schema.Schema {
	files, err := filepath.Glob("../../lab/modules/*.yang")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	var sources []schema.Source
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		sources = append(
			sources, schema.Source{Name: strings.TrimSuffix(filepath.Base(f), ".yang"), Text: string(text)},
		)
	}
	s := schema.Compile(sources, schema.Options{Features: map[string][]string{"ietf-system": {"ntp"}}})
	require.Empty(t, s.Problems)
	return s
}

func outline(t testing.TB, s *schema.Schema, text string) *tree.Node {
	n, err := codec.Decoder{Schema: s, Strict: true}.ParseOutline(text)
	require.NoError(t, err)
	return n
}

func config(t testing.TB, s *schema.Schema, n *tree.Node) *Config {
	c, err := Read(codec.XML(s, n, markup.Name{Space: codec.NetconfNS, Local: "config"}))
	require.NoError(t, err)
	return c
}

func need(t *testing.T) {
	if why := Missing(); why != "" {
		t.Skip("the kernel cannot be asked here: " + why)
	}
}

func (w ManagementPath) forecast() lockout.ManagementPath {
	return lockout.ManagementPath{Us: w.Us, Address: w.Address, Port: uint16(w.Port), Account: w.Account}
}

// number gives a number from the environment.
func number(t *testing.T, name string, fallback uint64) uint64 {
	text := os.Getenv(name)
	if text == "" {
		return fallback
	}
	n, err := strconv.ParseUint(text, 10, 64)
	require.NoError(t, err)
	return n
}

// seed gives what random changes begin with: always the same in the suite, which is to
// come out as it did before, and another each time where more of them are asked for.
func seed(t *testing.T) uint64 {
	fallback := uint64(17)
	if os.Getenv("TRIALS")+os.Getenv("FILTERS") != "" {
		fallback = uint64(time.Now().UnixNano())
	}
	return number(t, "SEED", fallback)
}

// isOpen holds that ways are open wherever the manager may be, and whatever the
// standards leave open.
func isOpen(t *testing.T, cfg *Config, ways []ManagementPath) {
	for _, w := range ways {
		j, err := NewJudge(cfg, w)
		require.NoError(t, err)
		for at := range j.places {
			sure, err := j.Sure(cfg, at)
			require.NoError(t, err)
			assert.True(t, sure, "%+v at %+v", w, j.places[at])
			possible, err := j.Possible(cfg, at)
			require.NoError(t, err)
			assert.True(t, possible, "%+v at %+v, generous", w, j.places[at])
		}
	}
}

// Every way of the yard is open as it stands, and every way through it.
func TestTheYardIsOpen(t *testing.T) {
	pace.Long(t)
	need(t)
	s := yardSchema(t)
	for _, text := range []string{Yard, YardWithoutService} {
		n := outline(t, s, text)
		require.True(t, valid(s, n))
		isOpen(t, config(t, s, n), Ways())
	}
	isOpen(t, config(t, s, router(t, s)), Through())
}

// router is the yard as one that forwards, and whose filters let pass what goes through.
func router(t testing.TB, s *schema.Schema) *tree.Node {
	n := outline(t, s, Yard)
	edit := func(remove bool, path, value string) {
		p, err := tree.ParsePath(s, path)
		require.NoError(t, err, path)
		e := tree.Put(p, value)
		if remove {
			e = tree.DeleteAt(p)
		}
		n, err = tree.Apply(n, tree.Fitted(n, e), tree.None)
		require.NoError(t, err, path)
	}
	for _, name := range []string{"m1", "vlan40", "up2", "up2.70", "leg.0"} {
		edit(false, "/interfaces/interface="+name+"/ipv4/forwarding", "true")
		if name != "leg.0" {
			edit(false, "/interfaces/interface="+name+"/ipv6/forwarding", "true")
		}
	}
	// What comes back through it is no session with itself.
	edit(true, "/acls/attachment-points/interface=vlan40", "")
	return n
}

// trial is one random change and what became of it.
type trial struct {
	way    ManagementPath
	place  int
	before *tree.Node
	after  *tree.Node
	did    []string
	says   lockout.Verdict
	wrong  string
	open   bool
}

// The forecast never says keeps where real packets do not get through, nor cuts
// where they do, and says unknown only where the standards or the wires leave it
// open. TRIALS says how many changes are tried.
func TestForecastAgainstTheKernel(t *testing.T) {
	pace.Long(t)
	need(t)
	trials, seed := int(number(t, "TRIALS", 300)), seed(t)
	s := yardSchema(t)
	bases := []*tree.Node{outline(t, s, Yard), outline(t, s, YardWithoutService), router(t, s)}
	ways, through := Ways(), Through()
	var mu sync.Mutex
	counts, tried, unfounded, openCount := map[lockout.Answer]int{}, map[string]int{}, 0, 0
	var wg sync.WaitGroup
	const workers = 32
	for n := range workers {
		wg.Add(1)
		go func() {
			defer wg.Done()
			c := NewChanger(s, rand.New(rand.NewPCG(seed, uint64(n))), understood...).Without(elsewhere...)
			for k := n; k < trials; k += workers {
				base, w := bases[c.Rnd.IntN(3)], ways[c.Rnd.IntN(len(ways))]
				if c.Rnd.IntN(4) == 0 {
					base, w = bases[2], through[c.Rnd.IntN(len(through))]
				}
				x, err := try(t, s, c, base, w)
				mu.Lock()
				if err != nil {
					t.Errorf("%v\n%s", err, strings.Join(x.did, "\n"))
				}
				counts[x.says.Answer]++
				if x.wrong != "" {
					t.Errorf(
						"%s\nseed %d; us %s, device %s by %s, %+v\n%s\nforecast: %s %s: %s", x.wrong, seed, x.way.Us,
						x.way.Address, x.way.Home, x.place, strings.Join(x.did, "\n"), x.says.Answer, x.says.Path,
						x.says.Because,
					)
				}
				if x.says.Answer == lockout.Unknown {
					if x.open {
						openCount++
					} else {
						unfounded++
						t.Logf(
							"unknown without need: us %s, device %s by %s\n%s\nforecast: %s: %s", x.way.Us,
							x.way.Address, x.way.Home, strings.Join(x.did, "\n"), x.says.Path, x.says.Because,
						)
					}
				}
				mu.Unlock()
			}
			mu.Lock()
			for path, n := range c.Tried {
				tried[path] += n
			}
			mu.Unlock()
		}()
	}
	wg.Wait()
	t.Logf("seed %d: %v; of the unknown %d were open, %d were not", seed, counts, openCount, unfounded)
	assert.LessOrEqual(t, unfounded, max(1, trials/50), "unknown where it was decided")
	assert.NotZero(t, counts[lockout.Keeps])
	assert.NotZero(t, counts[lockout.Cuts])
	if trials >= 3000 {
		var never []string
		for path, n := range tried {
			if n == 0 {
				never = append(never, path)
			}
		}
		slices.Sort(never)
		assert.Empty(t, never, "leaves that no change touched")
	}
}

func valid(s *schema.Schema, n *tree.Node) bool {
	return !slices.ContainsFunc(
		check.Tree(s, n).Findings, func(f check.Finding) bool { return f.Severity == check.Error },
	)
}

// try makes a valid random change, asks the forecast, and then the kernel.
func try(t *testing.T, s *schema.Schema, c *Changer, base *tree.Node, w ManagementPath) (x trial, err error) {
	x.way = w
	x.place = c.Rnd.IntN(8)
	change := func(from *tree.Node) (*tree.Node, []string) {
		for {
			next, did := c.Change(from, w)
			if len(did) == 0 || tree.Same(next, from) {
				continue
			}
			if valid(s, next) {
				return next, did
			}
		}
	}
	x.before = base
	if c.Rnd.IntN(3) == 0 { // not from the yard itself, but from what a change made of it
		next, did := change(base)
		if j, err := NewJudge(config(t, s, next), w); err == nil {
			if open, err := everywhere(j, config(t, s, next)); err == nil && open {
				x.before = next
				x.did = append(did, "--")
			}
		}
	}
	next, did := change(x.before)
	x.after, x.did = next, append(x.did, did...)
	if x.says = lockout.Forecast(x.before, x.after, w.forecast()); w.through() {
		x.says = lockout.Transit(x.before, x.after, w.forecast())
	}
	before, after := config(t, s, x.before), config(t, s, x.after)
	j, err := NewJudge(before, w)
	if err != nil {
		return x, err
	}
	switch x.says.Answer {
	case lockout.Keeps:
		cut := false
		sure, err := j.Sure(after, x.place)
		if err == nil && !sure {
			cut, err = j.SurelyNot(after, x.place)
		}
		if cut {
			x.wrong = "it says keeps, and the way is cut"
		}
		return x, err
	case lockout.Cuts:
		possible, err := j.Possible(after, x.place)
		if err == nil && possible {
			x.wrong = "it says cuts, and the way is kept"
		}
		return x, err
	}
	x.open, err = j.Open(after)
	return x, err
}

// everywhere reports whether a configuration works wherever the manager may be.
func everywhere(j *Judge, cfg *Config) (bool, error) {
	for place := range j.places {
		if sure, err := j.Sure(cfg, place); err != nil || !sure {
			return false, err
		}
	}
	return true, nil
}
