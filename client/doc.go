// Package client speaks to the Oaken Latch service: for programs that watch networks, stage changes, or commit them.
//
// Every operation of the API has a method, made from the API's own table of routes (calls.go); their documents are the
// types of package wire. [Client.Events] tells what happens as it is written, [Client.Await] follows long work.
//
// # Signing in
//
// A program signs in with a token of its own, made with
//
//	latch token add NAME --may stage,commit
//
// and told to it as [Options].Token. A service that shows a key no authority vouches for is known by its pin, which it
// prints when it starts ([Options].Pin); nothing is sent to any other.
//
// # Errors
//
// What the service refuses is a [*wire.Problem] (RFC 9457), with what is wrong and what to do next; [Is] asks of what
// kind it is. A service that does not answer is an [*Unreachable]. Nothing is tried again by itself: whether a commit
// was begun is told by the change.
//
// # A change from its beginning to its end
//
// A change is opened ([Client.OpenChange]), edits are staged in it ([Client.StageEdit]), the result is looked at
// ([Client.PreviewChange]) and committed as it was looked at ([Client.CommitChange] with the preview's digest). It is
// then in effect on hold, and reverts by itself unless it is confirmed in time ([Client.ConfirmChange]). The example
// of the package does all of it.
package client
