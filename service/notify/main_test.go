package notify_test

import (
	"testing"

	"oakenlatch/test/pace"
)

func TestMain(m *testing.M) { pace.Waiting(m) }
