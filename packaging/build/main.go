// Command build makes the Debian packages out of the built programs: build BIN OUT VERSION.
// Man pages and completions are what the programs themselves say.
package main

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"time"

	"github.com/goreleaser/nfpm/v2"
	"github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
)

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "build BIN OUT VERSION: BIN is the folder of the programs, OUT where the packages go")
		os.Exit(2)
	}
	if err := build(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		fmt.Fprintln(os.Stderr, "build:", err)
		os.Exit(1)
	}
}

const maintainer = "Oaken Latch <oaken-latch@example.net>"

func build(bin, out, version string) error {
	made, err := os.MkdirTemp("", "oaken-latch-packages-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(made) }()
	for file, args := range map[string][]string{
		"latch.1":        {"latch", "help", "--man"},
		"oaken-latchd.8": {"oaken-latchd", "help", "--man"},
	} {
		text, err := said(bin, args)
		if err == nil {
			err = packed(filepath.Join(made, file+".gz"), text)
		}
		if err != nil {
			return err
		}
	}
	for file, shell := range map[string]string{"latch.bash": "bash", "_latch": "zsh", "latch.fish": "fish"} {
		text, err := said(bin, []string{"latch", "completion", shell})
		if err == nil {
			err = os.WriteFile(filepath.Join(made, file), text, 0o644)
		}
		if err != nil {
			return err
		}
	}
	if err := changelog(filepath.Join(made, "changelog.gz")); err != nil {
		return err
	}
	file := func(from, to string, mode os.FileMode) *files.Content {
		return &files.Content{Source: from, Destination: to, FileInfo: &files.ContentFileInfo{Mode: mode}}
	}
	common := func(name string) files.Contents {
		return files.Contents{file(filepath.Join(made, "changelog.gz"), "/usr/share/doc/"+name+"/changelog.gz", 0o644)}
	}
	service := append(
		common("oaken-latch-service"), file(filepath.Join(bin, "oaken-latchd"), "/usr/bin/oaken-latchd", 0o755),
		file("packaging/oaken-latchd.service", "/usr/lib/systemd/system/oaken-latchd.service", 0o644),
		file("packaging/oaken-latch.sysusers", "/usr/lib/sysusers.d/oaken-latch.conf", 0o644),
		file("packaging/oaken-latch.tmpfiles", "/usr/lib/tmpfiles.d/oaken-latch.conf", 0o644),
		&files.Content{
			Source: "packaging/settings", Destination: "/etc/oaken-latch/settings", Type: files.TypeConfig,
			FileInfo: &files.ContentFileInfo{Mode: 0o644},
		},
		file("docs/run-the-service.md", "/usr/share/doc/oaken-latch-service/run-the-service.md", 0o644),
		file("docs/runbook.md", "/usr/share/doc/oaken-latch-service/runbook.md", 0o644),
		file(filepath.Join(made, "oaken-latchd.8.gz"), "/usr/share/man/man8/oaken-latchd.8.gz", 0o644),
	)
	client := append(common("oaken-latch-client"),
		file(filepath.Join(bin, "latch"), "/usr/bin/latch", 0o755),
		file(filepath.Join(made, "latch.1.gz"), "/usr/share/man/man1/latch.1.gz", 0o644),
		file(filepath.Join(made, "latch.bash"), "/usr/share/bash-completion/completions/latch", 0o644),
		file(filepath.Join(made, "_latch"), "/usr/share/zsh/vendor-completions/_latch", 0o644),
		file(filepath.Join(made, "latch.fish"), "/usr/share/fish/vendor_completions.d/latch.fish", 0o644))
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	return errors.Join(
		write(out, version, "oaken-latch-service",
			"network changes that revert by themselves unless confirmed: the service and its "+
				"web console\n"+
				"Stages changes for routers, switches and firewalls over NETCONF, shows what they do,\nand "+
				"commits them "+
				"on a timer that rolls back unless somebody confirms.", service,
			nfpm.Overridables{
				Depends: []string{"adduser | systemd"}, Recommends: []string{"systemd"},
				Suggests: []string{"oaken-latch-client", "git"},
				Scripts: nfpm.Scripts{
					PostInstall: "packaging/postinst", PreRemove: "packaging/prerm", PostRemove: "packaging/postrm",
				},
			}),
		write(out, version, "oaken-latch-client", "network changes that revert by themselves unless confirmed: the "+
			"command-line client\n"+
			"The command latch, with its manual page and completions for bash, "+
			"zsh and fish.", client, nfpm.Overridables{}),
	)
}

func write(out, version, name, about string, contents files.Contents, more nfpm.Overridables) error {
	more.Contents = contents
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: name, Arch: runtime.GOARCH, Platform: "linux", Version: version, Section: "net", Priority: "optional",
		Maintainer: maintainer, Description: about, MTime: builtAt(), Overridables: more,
	})
	if err := nfpm.PrepareForPackager(info, "deb"); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	file := filepath.Join(out, deb.Default.ConventionalFileName(info))
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	if err := errors.Join(deb.Default.Package(info, f), f.Close()); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	fmt.Println(file)
	return nil
}

// said is what a program prints.
func said(bin string, args []string) ([]byte, error) {
	text, err := exec.Command(filepath.Join(bin, args[0]), args[1:]...).Output()
	if err != nil {
		return nil, fmt.Errorf("%v: %w", args, err)
	}
	return text, nil
}

func changelog(file string) error {
	text, err := os.ReadFile("CHANGELOG.md")
	if err != nil {
		return err
	}
	return packed(file, text)
}

// packed writes a file as Debian wants manual pages and changelogs: by gzip, with no time
// in it, so that the same sources make the same package.
func packed(file string, text []byte) error {
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return err
	}
	_, err = w.Write(text)
	if err = errors.Join(err, w.Close()); err != nil {
		return err
	}
	return os.WriteFile(file, b.Bytes(), 0o644)
}

// builtAt is the time of what is built (SOURCE_DATE_EPOCH), now where that is not said.
func builtAt() time.Time {
	var s int64
	if _, err := fmt.Sscan(os.Getenv("SOURCE_DATE_EPOCH"), &s); err == nil {
		return time.Unix(s, 0).UTC()
	}
	return time.Now()
}
