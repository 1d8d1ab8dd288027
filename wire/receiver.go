package wire

import "time"

// Receiver is told of entries of the ledger.
type Receiver struct {
	Name    string    `json:"name"`
	Kind    string    `json:"kind"` // syslog, webhook or mail
	Place   string    `json:"place"`
	Line    string    `json:"line"` // what it is told of: a line to search by; "" is all
	From    string    `json:"from,omitempty"`
	To      []string  `json:"to,omitempty"`
	Account string    `json:"account,omitempty"`
	Gather  int64     `json:"gatherSeconds,omitempty"`
	Private bool      `json:"privateAuthority,omitempty"` // its certificate is vouched for by one that was given
	Added   time.Time `json:"added"`
	AddedBy string    `json:"addedBy"`
	Last    time.Time `json:"last,omitzero"` // it took something last
	Told    int64     `json:"told"`          // entries it took
	Behind  int64     `json:"behind"`        // entries of the ledger that it was not asked about yet
	Trouble string    `json:"trouble,omitempty"`
	Since   time.Time `json:"since,omitzero"` // of the trouble
}

// NewReceiver adds one.
type NewReceiver struct {
	Name      string   `json:"name"`
	Kind      string   `json:"kind"`
	Place     string   `json:"place"` // udp://, tcp://, tls:// HOST:PORT; https://…; smtp://, smtps:// HOST:PORT
	Line      string   `json:"line,omitempty"`
	Secret    string   `json:"secret,omitempty" raw:"true"`    // what signs a webhook; the password of mail
	Authority string   `json:"authority,omitempty" raw:"true"` // PEM: who vouches for its certificate
	From      string   `json:"from,omitempty"`
	To        []string `json:"to,omitempty"`
	Account   string   `json:"account,omitempty"`
	Gather    int64    `json:"gatherSeconds,omitempty"`
}

// ReceiverLine changes what it is told of.
type ReceiverLine struct {
	Line string `json:"line"`
}
