package store

import "context"

// counts gives how many rows there are by a word.
func (s *Store) counts(ctx context.Context, query string) (map[string]int64, error) {
	type row struct {
		word string
		n    int64
	}
	list, err := many(
		s.ask(ctx, query), func(r scanner) (x row, err error) { err = r.Scan(&x.word, &x.n); return x, err },
	)
	out := map[string]int64{}
	for _, x := range list {
		out[x.word] = x.n
	}
	return out, err
}

// CommitCounts gives how many commits there were by outcome; "" are not decided.
func (s *Store) CommitCounts(ctx context.Context) (map[string]int64, error) {
	return s.counts(ctx, "SELECT coalesce(json_extract(state, '$.outcome'), ''), count(*) FROM commits GROUP BY 1")
}

// OutsideCounts gives how many outside changes there were by state.
func (s *Store) OutsideCounts(ctx context.Context) (map[string]int64, error) {
	return s.counts(ctx, "SELECT state, count(*) FROM outside_changes GROUP BY 1")
}
