package wire

import (
	"time"

	"oakenlatch/core/advice"
)

// Archive is a place that copies go to.
type Archive struct {
	Name         string    `json:"name"`
	Kind         string    `json:"kind"` // folder, sftp or git
	Place        string    `json:"place"`
	Account      string    `json:"account,omitempty"`
	Trusted      bool      `json:"trusted"` // its host key was accepted, or it has none
	Position     int64     `json:"position"`
	AfterChange  bool      `json:"afterChange"`
	EverySeconds int64     `json:"everySeconds,omitempty"`
	KeepLast     int       `json:"keepLast,omitempty"`
	KeepDays     int       `json:"keepDays,omitempty"`
	Copies       int       `json:"copies"`
	Damaged      int       `json:"damaged,omitempty"` // copies that did not read back whole
	Copied       time.Time `json:"copied,omitzero"`   // it was brought up to date last
	Trouble      string    `json:"trouble,omitempty"`
	TroubleAt    time.Time `json:"troubleAt,omitzero"`
	Stale        bool      `json:"stale,omitempty"`  // its interval is over and it was not copied to
	Caveat       string    `json:"caveat,omitempty"` // why it is no backup
}

// NewArchive adds an archive.
type NewArchive struct {
	Name         string `json:"name"`
	Kind         string `json:"kind"`
	Place        string `json:"place"`
	Account      string `json:"account,omitempty"`
	Password     string `json:"password,omitempty" raw:"true"`
	PrivateKey   string `json:"privateKey,omitempty" raw:"true"`
	AfterChange  bool   `json:"afterChange"`
	EverySeconds int64  `json:"everySeconds,omitempty"`
	KeepLast     int    `json:"keepLast,omitempty"`
	KeepDays     int    `json:"keepDays,omitempty"`
}

// ArchiveSettings change how an archive is used; what is left out stays.
type ArchiveSettings struct {
	Position     *int64 `json:"position,omitempty"`
	AfterChange  *bool  `json:"afterChange,omitempty"`
	EverySeconds *int64 `json:"everySeconds,omitempty"`
	KeepLast     *int   `json:"keepLast,omitempty"`
	KeepDays     *int   `json:"keepDays,omitempty"`
	Retired      *bool  `json:"retired,omitempty"`
}

// NewCopy copies now: to one archive, or to the first that takes it.
type NewCopy struct {
	Archive string   `json:"archive,omitempty"`
	Devices []string `json:"devices,omitempty"` // none: all
}

// Copy is one configuration in an archive.
type Copy struct {
	ID       int64     `json:"id"`
	Archive  string    `json:"archive"`
	Device   string    `json:"device"`
	Revision int64     `json:"revision"`
	Name     string    `json:"name"`
	Bytes    int64     `json:"bytes"`
	SHA256   string    `json:"sha256"`
	At       time.Time `json:"at"`
	Why      string    `json:"why"`  // change, interval or hand
	Read     time.Time `json:"read"` // it was read back and found whole last
	Trouble  string    `json:"trouble,omitempty"`
}

// CopyText is a copy as the archive has it.
type CopyText struct {
	Copy
	Text string `json:"text"`
}

// Standing is how what is saved of a device stands.
type Standing struct {
	Device   string    `json:"device"`
	Site     string    `json:"site,omitempty"`
	Revision int64     `json:"revision,omitempty"`
	Changed  time.Time `json:"changed,omitzero"` // its running changed last
	Saved    time.Time `json:"saved,omitzero"`   // its startup changed last, as far as was seen
	Unsaved  bool      `json:"unsaved"`          // startup does not hold what runs
	Copied   time.Time `json:"copied,omitzero"`
	Copy     int64     `json:"copy,omitempty"` // the revision that was copied
	Archive  string    `json:"archive,omitempty"`
	Behind   []string  `json:"behind"` // of startup and copy, which do not hold what runs
}

// JobState is how work that takes long stands.
type JobState string

// The states of a job.
const (
	JobRunning JobState = "running"
	JobDone    JobState = "done"
	JobFailed  JobState = "failed"
	JobStopped JobState = "stopped"
)

// Job is long work that was begun: its State is running, done, failed or
// stopped, and Result what it came to.
type Job struct {
	ID      int64     `json:"id"`
	Kind    string    `json:"kind"`
	Actor   string    `json:"actor"`
	State   JobState  `json:"state"`
	Begun   time.Time `json:"begun"`
	Ended   time.Time `json:"ended,omitzero"`
	Done    int       `json:"done"`
	Total   int       `json:"total"`
	Doing   string    `json:"doing,omitempty"`
	Trouble string    `json:"trouble,omitempty"`
	Result  any       `json:"result,omitempty"`

	Next advice.Steps `json:"next,omitempty"` // what to do about its trouble
}

// Copied is what copying came to.
type Copied struct {
	Archive string   `json:"archive"`
	Copies  int      `json:"copies"`
	Gone    int      `json:"gone,omitempty"`   // dropped by the rules of retention
	Failed  []string `json:"failed,omitempty"` // the archives that were tried before, and why not
}

// VerifiedArchive is what reading an archive back came to.
type VerifiedArchive struct {
	Archive string   `json:"archive"`
	Copies  int      `json:"copies"`
	Whole   int      `json:"whole"`
	Wrong   []string `json:"wrong"`
}

// Rebuilt is what rebuilding from an archive came to.
type Rebuilt struct {
	Devices   []string `json:"devices"` // that were not known
	Revisions int      `json:"revisions"`
	Skipped   []string `json:"skipped"`
}
