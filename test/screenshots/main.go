// Command screenshots draws the pictures of docs/screenshots from the demo: it
// starts bin/oaken-latchd demo with a folder of its own, drives the console in
// Chromium and the client in a terminal window under Xvfb.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"oakenlatch/test/browser"
)

func main() {
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	only := flag.String("only", "", "console or client; default both")
	flag.Parse()
	if err := run(*out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

const server = "http://127.0.0.1:8641"

func run(out, only string) error {
	dir, err := os.MkdirTemp("", "shots-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	demo := exec.Command("bin/oaken-latchd", "demo", "--data", dir, "--listen", "127.0.0.1:8641")
	demo.Stderr = os.Stderr
	if err := demo.Start(); err != nil {
		return err
	}
	defer func() {
		_ = demo.Process.Signal(os.Interrupt)
		_ = demo.Wait()
	}()
	time.Sleep(3 * time.Second)
	c := client{dir: dir, out: out}
	if err := c.prepare(); err != nil {
		return err
	}
	if only != "client" {
		if err := consolePictures(&c); err != nil {
			return err
		}
	}
	if only != "console" {
		return errors.Join(c.report(), c.pictures())
	}
	return nil
}

// report draws the first page of a change's report, as it is on paper.
func (c *client) report() error {
	file := filepath.Join(c.dir, "change-1.pdf")
	if _, err := c.latch("report", "change", "2", file); err != nil {
		return err
	}
	to := filepath.Join(c.out, "report-change")
	if out, err := exec.Command("pdftoppm", "-r", "90", "-png", "-singlefile", file, to).CombinedOutput(); err != nil {
		return fmt.Errorf("drawing the report: %w: %s", err, out)
	}
	return nil
}

// client runs latch as mara, or as whoever signed in from another folder.
type client struct{ dir, out string }

func (c *client) env() []string {
	return append(os.Environ(), "HOME="+c.dir, "XDG_CONFIG_HOME="+c.dir, "OAKEN_LATCH_SERVER="+server, "PAGER=cat")
}

func (c *client) latch(args ...string) (string, error) {
	cmd := exec.Command("bin/latch", args...)
	cmd.Env = c.env()
	b, err := cmd.CombinedOutput()
	var status *exec.ExitError
	if errors.As(err, &status) && status.ExitCode() < 4 || err == nil {
		return strings.TrimSpace(string(b)), nil
	}
	return "", fmt.Errorf("latch %s: %w: %s", strings.Join(args, " "), err, b)
}

func (c *client) all(lines ...string) error {
	for _, l := range lines {
		args := strings.Split(l, "|")
		if _, err := c.latch(args...); err != nil {
			return err
		}
	}
	return nil
}

// prepare makes some history: a change that was confirmed, one in draft.
func (c *client) prepare() error {
	login, err := c.login("mara")
	if err != nil {
		return err
	}
	if err := c.all(
		login, "snapshot|take|Before the winter timetable|--all|--note|all quiet, the office agrees",
		"open|Camera on ramp 2|--ticket|TF-198",
		"put|2|saltern-quay|/interfaces/interface=quay5/type|ethernetCsmacd",
		"put|2|saltern-quay|/interfaces/interface=quay5/description|Ramp 2 camera",
		"put|2|saltern-quay|/interfaces/interface=quay5/bridge-port/untagged|30",
		"commit|2|--hold|30s", "confirm|2",
		"open|Bigger frames to Saltern|--ticket|TF-214",
		"put|3|northmole-harbour|/interfaces/interface=port1/ipv4/mtu|9000",
		"put|3|northmole-harbour|/interfaces/interface=port1/description|Fibre to Saltern, jumbo frames",
		"delete|3|northmole-harbour|/interfaces/interface=port4",
		"put|3|northmole-harbour|/system/dns-resolver/search|saltern.tidewell.example|--add",
		"open|Hall A to port 4|--ticket|TF-220",
		"put|4|northmole-harbour|/interfaces/interface=port4/ipv4/address=10.64.16.1/prefix-length|24",
		"put|4|northmole-harbour|/interfaces/interface=port4/enabled|true",
		"delete|4|northmole-harbour|/interfaces/interface=port2/ipv4/address=10.64.0.5",
		"delete|4|northmole-harbour|/interfaces/interface=port3/type",
		"put|4|northmole-harbour|/interfaces/interface=port4/description|Spare",
		"open|Who to call at Saltern|--ticket|TF-231",
		"put|5|saltern-quay|/system/contact|Slip office, ext. 31",
		"put|5|saltern-slip|/system/contact|Slip office, ext. 31",
		"open|Winter timetable|--ticket|TF-240",
		"put|6|saltern-slip|/system/location|Boat slip hut, winter berth",
		"commit|6|--at|03:30|--zone|Europe/Lisbon",
	); err != nil {
		return err
	}
	return errors.Join(c.prepareDesk(), c.prepareArchives())
}

// prepareArchives has a repository that takes copies, and a share that is not
// mounted.
func (c *client) prepareArchives() error {
	admin := &client{dir: filepath.Join(c.dir, "admin"), out: c.out}
	repo := filepath.Join(c.dir, "network.git")
	if err := errors.Join(
		os.MkdirAll(admin.dir, 0o700), exec.Command("git", "init", "-q", "--bare", "-b", "main", repo).Run(),
	); err != nil {
		return err
	}
	login, err := admin.login("admin")
	if err != nil {
		return err
	}
	return errors.Join(admin.all(
		login, "archive|add|share|--folder|/mnt/share|--keep-last|50", "archive|add|log|--git|"+repo, "archive|copy",
		"device|set|gannet-hall|--tags|edge",
		"rule|add|--on|tag=edge|--path|/acls|--emergency|--note|Filters of the edge: two persons",
		"account|add|hanna|--may|read|--may|stage,commit@site=Saltern|--password-file|"+
			filepath.Join(admin.dir, "admin.pw"),
		"token|add|nightly export|--may|read|--until|2027-03-31",
	),
		c.all("ask|1|The slip office opens on Monday."))
}

// login writes a person's password down and gives the words that sign in.
func (c *client) login(who string) (string, error) {
	pw := filepath.Join(c.dir, who+".pw")
	return "login|--user|" + who + "|--password-file|" + pw, os.WriteFile(pw, []byte("ferry-"+who+"\n"), 0o600)
}

const lamps = "vlans\n  vlan [40]\n    name: lamps\ninterfaces\n  interface [quay6]\n    type: ethernetCsmacd\n    " +
	"description: \"Lamp posts, ramp 1\"\n    bridge-port\n      untagged: 40\n"

const clock = "# Where a device stands, and its time servers\nsystem\n  location: \"{place}, cabinet {number}\"\n  " +
	"ntp\n    server [{@time-servers}]\n      udp\n        address: {@time-servers}\n"

// prepareDesk makes a change of two people, of which one device has moved on
// and another would be cut off, and a stencil with a device that strayed.
func (c *client) prepareDesk() error {
	file := filepath.Join(c.dir, "lamps.txt")
	stencil := filepath.Join(c.dir, "clock.outline")
	joss := &client{dir: filepath.Join(c.dir, "joss"), out: c.out}
	if err := errors.Join(
		os.WriteFile(file, []byte(lamps), 0o600), os.WriteFile(stencil, []byte(clock), 0o600),
		os.MkdirAll(joss.dir, 0o700),
	); err != nil {
		return err
	}
	login, err := joss.login("joss")
	if err != nil {
		return err
	}
	return errors.Join(joss.all(login), c.all(
		"shared|set|time-servers|203.0.113.123|203.0.113.124", "stencil|save|clock|"+stencil+"|--note|two servers",
		"open|Where the hall stands", "stencil|bind|clock|7|gannet-hall|--set|place=Booking hall|--set|number=2",
		"commit|7|--hold|1m", "confirm|7", "open|By hand",
		"put|8|gannet-hall|/system/location|Booking hall, behind the desk", "commit|8|--hold|1m", "confirm|8",
		"open|Lamps on the quay|--ticket|TF-244", "load|9|saltern-quay|"+file+"|--mode|merge",
		"put|9|saltern-quay|/system/location|Quay cabinet 3, with the lamps", "share|9|joss",
		"put|9|gannet-hall|/acls/acl=management-in/aces/ace=operations-room/matches/tcp/destination-port/port|22",
	), joss.all(
		"put|9|saltern-quay|/interfaces/interface=quay6/description|Lamp posts, ramp 1 and 2",
		"note|9|The electricians come on Monday.", "open|The cabinet was renumbered",
		"put|10|saltern-quay|/system/location|Quay cabinet 4", "commit|10|--hold|1m", "confirm|10",
		"reserve|gannet-hall|--for|3h|--reason|new fibre to Northmole",
	), c.all("reserve|ask|gannet-hall|may I move the filter rule tonight?"))
}

func consolePictures(c *client) error {
	ctx, stop, err := browser.Open(context.Background(), func(s string) { fmt.Fprintln(os.Stderr, "page:", s) })
	if err != nil {
		return err
	}
	defer stop()
	shot := func(name string, steps ...browser.Step) error {
		if err := browser.Do(ctx, name, append(steps, chromedp.Sleep(900*time.Millisecond))...); err != nil {
			return err
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(c.out, "console-"+name+".png"), png, 0o644)
	}
	if err := browser.SignIn(ctx, server, "/changes/3", "mara", "ferry-mara"); err != nil {
		return err
	}
	if err := shot("change", chromedp.WaitVisible(browser.Button("Commit on hold"))); err != nil {
		return err
	}
	if _, err := c.latch(
		"commit", "5", "--hold", "5m", "--first", "saltern-quay", "--probe",
		"state saltern-quay /interfaces/interface=trunk1/oper-status up", "--probe", "program ferry-answers Heron",
	); err != nil {
		return err
	}
	for _, s := range []struct {
		name, page string
		wait       chromedp.Search
	}{
		{"hold", "/changes/5", browser.Button("Confirm")},
		{"desk", "/changes/9?device=saltern-quay", browser.Button("Decide the conflict…")},
		{"now", "/", browser.Text("h1", "What needs a decision now")},
		{"outside", "/outside?all=true&number=1", browser.Button("Take it as it is")},
		{"traffic", "/changes/1?view=traffic", browser.Text("*", "which nobody expects")},
		{"filters", "/devices/gannet-hall?view=filters", browser.Text("td", "operations-room")},
		{"commit", "/commits/1", browser.Text("a", "Compare with now")},
		{"device", "/devices/gannet-hall", browser.Text("pre", "zones")},
		{"approval", "/changes/1?view=approval", browser.Text("*", "It needs 1 who did not work on it")},
		{"compare", "/devices/saltern-quay?view=compare&a=rev:1&b=running", browser.Button("Bring back all of rev:1")},
		{"backups", "/backups", browser.Button("Read all of it back")},
		{"audit", "/audit", browser.Text("a", "saltern-quay")},
	} {
		steps := []browser.Step{chromedp.Navigate(server + s.page), chromedp.WaitVisible(s.wait)}
		if s.name == "filters" {
			steps = []browser.Step{
				chromedp.Navigate(server + s.page), chromedp.WaitVisible(browser.Text("td", "booking")),
				chromedp.Click(chromedp.Search(`//label[.//div[@title="management-in"]]`)),
				chromedp.WaitVisible(s.wait),
				browser.Type("packets", "tcp from 198.51.100.0/24,203.0.113.0/24 to 192.0.2.13 port 830"),
				chromedp.Click(browser.Button("Ask")),
				chromedp.WaitVisible(browser.Text("*", "Some of it is permitted")),
			}
		}
		if s.name == "traffic" {
			steps = append(
				steps,
				chromedp.ScrollIntoView(chromedp.Search(`//*[@role="alert"][contains(., "which nobody expects")]`)),
			)
		}
		if s.name == "approval" {
			steps = append(steps, chromedp.ScrollIntoView(browser.Button("Ask again")))
		}
		if err := shot(s.name, steps...); err != nil {
			return err
		}
	}
	if _, err := c.latch("revert", "5", "--yes"); err != nil {
		return err
	}
	if err := browser.Do(
		ctx, "sign out", chromedp.Click(browser.Button("Sign out")), chromedp.WaitVisible(browser.Field("Account")),
	); err != nil {
		return err
	}
	if err := browser.SignIn(ctx, server, "/access", "admin", "ferry-admin"); err != nil {
		return err
	}
	return shot("access", chromedp.WaitVisible(browser.Text("*", "nightly export")))
}

// pictures draws the client's main commands in a terminal window.
func (c *client) pictures() error {
	for _, p := range []struct{ name, script string }{
		{"preview", "latch preview 3 --context 0"},
		{
			"commit",
			"latch commit 5 --hold 5m --first saltern-quay --probe 'state saltern-quay " +
				"/interfaces/interface=trunk1/oper-status up' --probe 'program ferry-answers Heron'; echo; latch " +
				"show 5; echo; latch extend 5 20m; echo; latch devices",
		},
		{
			"history",
			"latch confirm 5; echo; latch timeline saltern-quay --limit 6; echo; latch blame saltern-quay /system | " +
				"head -5; echo; latch history saltern-quay /system/location; echo; latch undo 10; echo; latch backups",
		},
		{
			"audit",
			"latch audit --limit 20 | cut -c1-150; latch audit verify; latch audit prove 5 --to /tmp/entry-5.proof; " +
				"latch audit check /tmp/entry-5.proof",
		},
	} {
		if err := c.terminal(p.name, p.script); err != nil {
			return err
		}
	}
	return nil
}

// commands splits a script at semicolons that are not in quotes.
func commands(script string) []string {
	var out []string
	quoted := false
	from := 0
	for i, r := range script {
		switch {
		case r == '\'':
			quoted = !quoted
		case r == ';' && !quoted:
			out = append(out, strings.TrimSpace(script[from:i]))
			from = i + 1
		}
	}
	return append(out, strings.TrimSpace(script[from:]))
}

// terminal runs a script in xterm under Xvfb and takes a picture of it.
func (c *client) terminal(name, script string) error {
	bin, err := filepath.Abs("bin")
	if err != nil {
		return err
	}
	shown := commands(script)
	var lines []string
	for _, s := range shown {
		if s != "echo" {
			lines = append(lines, fmt.Sprintf("printf '\\033[1m$ %%s\\033[0m\\n' %q", s))
		}
		lines = append(lines, s)
	}
	lines = append(lines, "touch "+filepath.Join(c.dir, name), "sleep 60")
	file := filepath.Join(c.dir, name+".sh")
	if err := os.WriteFile(
		file, []byte("PATH="+bin+":$PATH\ncd "+c.dir+"\n"+strings.Join(lines, "\n")+"\n"), 0o600,
	); err != nil {
		return err
	}
	x := exec.Command("Xvfb", ":97", "-screen", "0", "1280x800x24")
	if err := x.Start(); err != nil {
		return err
	}
	defer func() { _ = x.Process.Kill(); _ = x.Wait() }()
	time.Sleep(time.Second)
	env := append(c.env(), "DISPLAY=:97", "TERM=xterm-256color", "TZ=UTC", "LANG=C.UTF-8", "LC_ALL=C.UTF-8")
	term := exec.Command(
		"xterm", "-u8", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x49+0+0", "-bg", "#fbf8f2", "-fg",
		"#2a2019", "-e", "bash", file,
	)
	term.Env = env
	if err := term.Start(); err != nil {
		return err
	}
	defer func() { _ = term.Process.Kill(); _ = term.Wait() }()
	for range 100 {
		time.Sleep(200 * time.Millisecond)
		if _, err := os.Stat(filepath.Join(c.dir, name)); err == nil {
			break
		}
	}
	time.Sleep(500 * time.Millisecond)
	grab := exec.Command("import", "-window", "root", filepath.Join(c.out, "client-"+name+".png"))
	grab.Env = env
	if b, err := grab.CombinedOutput(); err != nil {
		return fmt.Errorf("picture %s: %w: %s", name, err, b)
	}
	return nil
}
