package main

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/service/api"
)

// The Go client's calls are those of the routes.
func TestCallsAreOfTheRoutes(t *testing.T) {
	var now bytes.Buffer
	require.NoError(t, writeGo(&now, (&api.API{}).Operations()))
	kept, err := os.ReadFile("../../client/calls.go")
	require.NoError(t, err)
	require.True(t, bytes.Equal(kept, now.Bytes()), "client/calls.go is of other routes: make describe")
}
