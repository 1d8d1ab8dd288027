package wire

import (
	"time"

	"oakenlatch/core/complete"
	"oakenlatch/core/stencil"
)

// Stencil is a piece of configuration with blanks.
type Stencil struct {
	Name     string    `json:"name"`
	Version  int64     `json:"version"`
	Text     string    `json:"text"`
	Note     string    `json:"note,omitempty"`
	Actor    string    `json:"actor"`
	At       time.Time `json:"at"`
	Blanks   []Blank   `json:"blanks"`
	Versions []Version `json:"versions,omitempty"` // newest first
	Uses     []Use     `json:"uses,omitempty"`
}

// Version is one version of a stencil.
type Version struct {
	Version int64     `json:"version"`
	Note    string    `json:"note,omitempty"`
	Actor   string    `json:"actor"`
	At      time.Time `json:"at"`
	Text    string    `json:"text"`
}

// Blank is something to be filled in, with what it takes on the device that
// was named.
type Blank struct {
	Name   string   `json:"name"`
	Shared bool     `json:"shared,omitempty"`
	Lines  []int    `json:"lines"` // of the stencil's text, from 1
	Type   string   `json:"type,omitempty"`
	Values []string `json:"values,omitempty"`
	Help   string   `json:"help,omitempty"`
}

// Use is a device that uses a stencil.
type Use struct {
	Stencil string             `json:"stencil"`
	Device  string             `json:"device"`
	Version int64              `json:"version"`
	Newest  int64              `json:"newest"`
	Change  int64              `json:"change"`
	Blanks  map[string]string  `json:"blanks"`
	Strayed []stencil.Standing `json:"strayed,omitempty"` // changed by hand since
}

// NewStencil saves a new version. Blanks are values for blanks that are new,
// on the devices that use it.
type NewStencil struct {
	Text   string            `json:"text" raw:"true"`
	Note   string            `json:"note,omitempty"`
	Blanks map[string]string `json:"blanks,omitempty" raw:"true"`
}

// Bind stages what a stencil sets on devices, or, with Off, that it goes.
type Bind struct {
	Change  int64             `json:"change"`
	Devices []string          `json:"devices"`
	Blanks  map[string]string `json:"blanks,omitempty" raw:"true"`
	Off     bool              `json:"off,omitempty"`
}

// Shared is a value defined once for all stencils.
type Shared struct {
	Name    string    `json:"name"`
	Version int64     `json:"version"`
	Items   []string  `json:"items"`
	Note    string    `json:"note,omitempty"`
	Actor   string    `json:"actor"`
	At      time.Time `json:"at"`
}

// NewShared gives a shared value other items.
type NewShared struct {
	Items []string `json:"items" raw:"true"`
	Note  string   `json:"note,omitempty"`
}

// Saved is what saving a stencil or a shared value came to: the change it
// opened for the devices that use it, 0 where none needs one.
type Saved struct {
	Version int64    `json:"version"`
	Change  int64    `json:"change,omitempty"`
	Devices []string `json:"devices,omitempty"`
	Same    []string `json:"same,omitempty"` // those that hold all of it already
	Notes   []string `json:"notes,omitempty"`
}

// Hint helps to write a path.
type Hint = complete.Hint
