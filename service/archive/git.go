package archive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"oakenlatch/service/access"
	"oakenlatch/service/store"
)

// repository keeps files in a git repository that is somewhere else: a clone
// beside the records holds what is to be pushed, and another one only what was
// fetched from there, which is what is read back. A file is named COMMIT:PATH.
type repository struct {
	clone  string
	back   string
	read   bool // back was brought up to what is there
	branch string
	env    []string
	remove func() error
}

const gitBranch = "main"

// gitHost gives the host of what git takes as a repository; remote is false
// where that is a folder of this machine.
func gitHost(text string) (host string, remote bool) {
	if u, err := url.Parse(text); err == nil && (u.Scheme == "file" || u.Scheme != "" && u.Host != "") {
		return u.Hostname(), u.Scheme != "file"
	}
	head, _, ok := strings.Cut(text, ":")
	if !ok || strings.Contains(head, "/") {
		return "", false
	}
	if _, after, ok := strings.Cut(head, "@"); ok {
		head = after
	}
	return head, true
}

// git opens the clone of an archive and brings it up to what is there.
func (a *Archives) git(ctx context.Context, at store.Archive) (place, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, errors.New("git is not installed on this machine")
	}
	if strings.HasPrefix(at.Place, "-") {
		return nil, fmt.Errorf("%q is no repository", at.Place)
	}
	r := &repository{
		clone: filepath.Join(a.opt.Dir, "archives", fmt.Sprintf("%d", at.ID)),
		back:  filepath.Join(a.opt.Dir, "archives", fmt.Sprintf("%d-back", at.ID)), branch: gitBranch,
		remove: func() error { return nil },
	}
	r.env = append(
		os.Environ(), "GIT_TERMINAL_PROMPT=0", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "LC_ALL=C",
	)
	if err := a.gitLogin(at, r); err != nil {
		return nil, err
	}
	for _, dir := range []string{r.clone, r.back} {
		if err := unlock(dir); err != nil {
			return nil, errors.Join(err, r.remove())
		}
		if err := r.prepare(ctx, dir, at.Place); err != nil {
			return nil, errors.Join(err, r.remove())
		}
	}
	if err := r.fetch(ctx); err != nil {
		return nil, errors.Join(err, r.remove())
	}
	return r, nil
}

// unlock takes away what a git that died in the middle left locked: nobody else
// uses a clone, and one archive is open at a time.
func unlock(dir string) error {
	var errs []error
	for _, pattern := range []string{"*.lock", "refs/heads/*.lock", "refs/remotes/origin/*.lock"} {
		left, err := filepath.Glob(filepath.Join(dir, ".git", pattern))
		errs = append(errs, err)
		for _, file := range left {
			errs = append(errs, os.Remove(file))
		}
	}
	return errors.Join(errs...)
}

// prepare makes one of the clones, and says where the repository is.
func (r *repository) prepare(ctx context.Context, dir, from string) error {
	if _, err := os.Stat(filepath.Join(dir, ".git")); err != nil {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		if _, err := r.in(ctx, dir, nil, "init", "-q", "-b", r.branch); err != nil {
			return err
		}
	}
	_, _ = r.in(ctx, dir, nil, "remote", "remove", "origin")
	_, err := r.in(ctx, dir, nil, "remote", "add", "origin", from)
	return err
}

// gitLogin has git sign in over SSH with the archive's key, and with no host
// but the accepted one.
func (a *Archives) gitLogin(at store.Archive, r *repository) error {
	if at.Auth != "key" {
		return nil
	}
	secret, err := a.sealer.Open(at.Secret, access.Purpose("archives", at.Name))
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "oaken-latch-git-")
	if err != nil {
		return err
	}
	r.remove = func() error { return os.RemoveAll(dir) }
	key, known := filepath.Join(dir, "key"), filepath.Join(dir, "known_hosts")
	host, _ := gitHost(at.Place)
	text := append(bytes.TrimRight(secret, "\n"), '\n')
	if err := errors.Join(
		os.WriteFile(key, text, 0o600), os.WriteFile(known, []byte("* "+at.HostKey+"\n"), 0o600),
	); err != nil {
		return errors.Join(err, r.remove())
	}
	if at.HostKey == "" {
		return errors.Join(
			untrusted(at, host), r.remove(),
		)
	}
	r.env = append(
		r.env,
		"GIT_SSH_COMMAND=ssh -F none -i "+key+" -o IdentitiesOnly=yes -o BatchMode=yes -o StrictHostKeyChecking=yes "+
			"-o UserKnownHostsFile="+known,
	)
	return nil
}

// run runs git in the clone.
func (r *repository) run(ctx context.Context, in []byte, args ...string) ([]byte, error) {
	return r.in(ctx, r.clone, in, args...)
}

func (r *repository) in(ctx context.Context, dir string, in []byte, args ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...)
	cmd.Env = r.env
	cmd.WaitDelay = time.Second
	var out, said bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(in), &out, &said
	if err := cmd.Run(); err != nil {
		return nil, fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(said.String()))
	}
	return out.Bytes(), nil
}

// fetch makes the clone what the repository is.
func (r *repository) fetch(ctx context.Context) error {
	heads, err := r.run(ctx, nil, "ls-remote", "--heads", "origin", r.branch)
	if err != nil {
		return err
	}
	if len(heads) == 0 { // it is empty: what the clone holds is what it will hold
		return nil
	}
	if _, err := r.run(ctx, nil, "fetch", "-q", "origin", r.branch); err != nil {
		return err
	}
	// What was committed and never pushed is made anew.
	_, err = r.run(ctx, nil, "reset", "-q", "--hard", "FETCH_HEAD")
	return err
}

// named gives a group's files their names in a commit.
func named(commit string, g group) (names []string) {
	for _, x := range g.files {
		names = append(names, commit+":"+x.name)
	}
	return names
}

// before gives the commit that holds a group already: one that was pushed just
// before this service, or its machine, died.
func (r *repository) before(ctx context.Context, g group) string {
	if len(g.trailer) == 0 {
		return ""
	}
	mark := "^" + regexp.QuoteMeta(g.trailer[len(g.trailer)-1]) + "$"
	out, err := r.run(ctx, nil, "log", "-E", "--grep="+mark, "--format=%H", "-1", "HEAD")
	commit := strings.TrimSpace(string(out))
	if err != nil || commit == "" {
		return ""
	}
	for i, name := range named(commit, g) {
		have, err := r.run(ctx, nil, "cat-file", "blob", name)
		if err != nil || !bytes.Equal(have, g.files[i].content) {
			return ""
		}
	}
	return commit
}

func (r *repository) put(ctx context.Context, g group) ([]string, error) {
	if commit := r.before(ctx, g); commit != "" {
		r.read = false
		return named(commit, g), nil
	}
	for _, x := range g.files {
		if err := folder(r.clone).write(x); err != nil {
			return nil, err
		}
		if _, err := r.run(ctx, nil, "add", "-f", "--", x.name); err != nil {
			return nil, err
		}
	}
	who := g.who
	if who == "" {
		who = "not known"
	}
	message := g.subject + "\n"
	if len(g.trailer) > 0 {
		message += "\n" + strings.Join(g.trailer, "\n") + "\n"
	}
	when := g.when.UTC().Format(time.RFC3339)
	author := fmt.Sprintf("%s <%s@oaken-latch.invalid>", who, strings.ReplaceAll(who, " ", "-"))
	env := r.env
	r.env = append(
		r.env, "GIT_AUTHOR_DATE="+when, "GIT_COMMITTER_DATE="+when, "GIT_COMMITTER_NAME=Oaken Latch",
		"GIT_COMMITTER_EMAIL=service@oaken-latch.invalid",
	)
	_, err := r.run(
		ctx, []byte(message), "commit", "-q", "--allow-empty", "--cleanup=verbatim", "--author", author, "-F", "-",
	)
	r.env = env
	if err != nil {
		return nil, err
	}
	r.read = false
	id, err := r.run(ctx, nil, "rev-parse", "HEAD")
	if err != nil {
		return nil, err
	}
	if _, err := r.run(ctx, nil, "push", "-q", "origin", "HEAD:refs/heads/"+r.branch); err != nil {
		return nil, err
	}
	return named(strings.TrimSpace(string(id)), g), nil
}

// get reads a file back: out of what was fetched from the repository.
func (r *repository) get(ctx context.Context, name string) ([]byte, error) {
	commit, _, ok := strings.Cut(name, ":")
	if !ok || strings.HasPrefix(commit, "-") {
		return nil, fmt.Errorf("%q names no file", name)
	}
	if err := r.fetchBack(ctx); err != nil {
		return nil, err
	}
	if _, err := r.in(ctx, r.back, nil, "merge-base", "--is-ancestor", commit, "FETCH_HEAD"); err != nil {
		return nil, fmt.Errorf("the repository does not hold commit %.12s any more", commit)
	}
	return r.in(ctx, r.back, nil, "cat-file", "blob", name)
}

func (r *repository) fetchBack(ctx context.Context) error {
	if r.read {
		return nil
	}
	_, err := r.in(ctx, r.back, nil, "fetch", "-q", "origin", r.branch)
	r.read = err == nil
	return err
}

// afresh forgets what was fetched, so that all of it is read from there anew.
func (r *repository) afresh(ctx context.Context) error {
	at, err := r.in(ctx, r.back, nil, "remote", "get-url", "origin")
	if err != nil {
		return err
	}
	if err := os.RemoveAll(r.back); err != nil {
		return err
	}
	r.read = false
	return r.prepare(ctx, r.back, strings.TrimSpace(string(at)))
}

func (r *repository) list(ctx context.Context) ([]string, error) {
	if err := r.fetchBack(ctx); err != nil {
		return nil, err
	}
	out, err := r.in(
		ctx, r.back, nil, "log", "--reverse", "--format=commit %H", "--name-only", "--diff-filter=AM", "FETCH_HEAD",
	)
	if err != nil {
		return nil, err
	}
	var list []string
	commit := ""
	for _, l := range strings.Split(string(out), "\n") {
		if id, ok := strings.CutPrefix(l, "commit "); ok {
			commit = id
		} else if l != "" {
			list = append(list, commit+":"+l)
		}
	}
	return list, nil
}

// drop leaves it there: git keeps what it was given.
func (r *repository) drop(context.Context, string) error { return errKept }

var errKept = errors.New("a git repository keeps what it was given")

func (r *repository) close() error { return r.remove() }
