// Package engine brings changes onto devices. It decides nothing: core/guard does, and the engine performs the
// actions that it gives, keeps the time, and after a crash goes on from what the devices say.
//
// # A commit
//
// [Engine.Begin] takes an order with its works (service/order): for each device what it held when it was previewed
// and what it is to hold. From then on a goroutine is the commit (run.go). It takes one event after another (a reply,
// a lost session, the passing of time, a person's word), gives it to guard.Step, and hands the actions to a worker
// for each device (worker.go). [Engine.Status] follows it, [Engine.Say] brings a person's word.
//
// # The journal
//
// Every event is written down, and synced, before anything is done about it that could not be taken back. So a
// service that dies at any moment finds in its journal at least what it did: [Engine.Recover] folds the journals of
// open commits through guard.Step again and adds that there was a restart, and the machine then asks the devices.
// Where nothing can be written (a full disk, a folder that is gone), what only looks or takes back goes on all the
// same: it is safe to do twice.
//
// # Who takes it back
//
// The device by itself, where it can be given a timer (a confirmed commit, RFC 6241 section 8.4); the device when our
// session to it ends, where it cannot be told to remember; this service, where the device can do neither. Which of
// them it is is worked out from the device's capabilities (prepare.go) and told in the preview.
//
// # By file
//
// engine.go orders and words; plan.go how a commit is to be done; note.go what is noted of it beside the records;
// run.go the loop and its journal; record.go what is entered in the ledger; worker.go a device's queue of actions.
// prepare.go everything before the commit; trial.go commit, look, extend, confirm and cancel; direct.go all of that
// where only running can be edited; tryout.go having a device judge a result; ladder.go in what form an edit is sent.
// back.go taking it off again; settle.go ending a commit on a device that keeps it; unsettled.go what a restored
// backup leaves open; probe.go checks during the hold; busy.go which device is taken; care.go restarting, saving,
// sessions of others.
package engine
