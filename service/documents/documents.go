// Package documents makes the API's documents of what is on record: changes with how their commits stand,
// devices, what needs a decision. A page of them takes a handful of queries, however long it is, and no
// device is read for it.
package documents

import (
	"oakenlatch/service/access"
	"oakenlatch/service/approval"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/engine"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/reservation"
	"oakenlatch/service/store"
	"oakenlatch/service/witness"
)

// Documents makes documents for people, each as that person may see it.
type Documents struct {
	Store        *store.Store
	Log          *audit.Log
	Accounts     *access.Accounts
	Fleet        *fleet.Fleet
	History      *history.History
	Desk         *desk.Desk
	Approvals    *approval.Approvals
	Reservations *reservation.Reservations
	Engine       *engine.Engine
	Witnesses    *witness.Witnesses // who vouches for the record from outside
}
