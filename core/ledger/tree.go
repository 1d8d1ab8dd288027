package ledger

import (
	"fmt"

	"golang.org/x/mod/sumdb/tlog"
)

// Edge is a Merkle tree (RFC 6962, 2.1) of which only as much is kept as it takes to go on: its
// whole subtrees, the largest first. The zero value is empty.
type Edge struct {
	size  int64
	whole []tlog.Hash
}

// Add puts a leaf behind the others.
func (t *Edge) Add(leaf tlog.Hash) {
	h := leaf
	for n := t.size; n&1 == 1; n >>= 1 {
		last := len(t.whole) - 1
		h = tlog.NodeHash(t.whole[last], h)
		t.whole = t.whole[:last]
	}
	t.whole = append(t.whole, h)
	t.size++
}

// Size is how many leaves it has.
func (t *Edge) Size() int64 { return t.size }

// Root is the hash of the whole tree. An empty one has that of nothing.
func (t *Edge) Root() tlog.Hash {
	if t.size == 0 {
		h, _ := tlog.TreeHash(0, nil) // reads nothing
		return h
	}
	h := t.whole[len(t.whole)-1]
	for i := len(t.whole) - 2; i >= 0; i-- {
		h = tlog.NodeHash(t.whole[i], h)
	}
	return h
}

// What the hashes of a tree are kept in: tiles of 256 hashes side by side. Those of level 0 are
// leaves; each hash of a higher level is of a whole tile of the one below.
const (
	tileHeight = 8
	tileWidth  = 1 << tileHeight
)

// Place is where a tile stands.
type Place struct {
	Level int
	N     int64
}

// Tiles reads a tile as far as it is there: 32 bytes a hash.
type Tiles func(Place) ([]byte, error)

// ReadHashes gives hashes of the tree by their index (tlog.HashReader).
func (read Tiles) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	seen := map[Place][]byte{}
	out := make([]tlog.Hash, len(indexes))
	for i, index := range indexes {
		tile := tlog.TileForIndex(tileHeight, index)
		at := Place{tile.L, tile.N}
		data, ok := seen[at]
		if !ok {
			var err error
			if data, err = read(at); err != nil {
				return nil, err
			}
			seen[at] = data
		}
		width := tile.W * tlog.HashSize
		if len(data) < width {
			return nil, fmt.Errorf(
				"the tree that is kept of the ledger is not whole: tile %d of level %d has %d hashes, not %d", tile.N,
				tile.L, len(data)/tlog.HashSize, tile.W,
			)
		}
		var err error
		if out[i], err = tlog.HashFromTile(tile, data[:width], index); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Grow puts leaves behind a tree of a size, and gives the tiles that are other than before.
func Grow(size int64, leaves []tlog.Hash, read Tiles) (map[Place][]byte, error) {
	grown := map[Place][]byte{}
	var add func(level int, n int64, h tlog.Hash) error
	add = func(level int, n int64, h tlog.Hash) error {
		at := Place{level, n / tileWidth}
		data, ok := grown[at]
		if !ok && n%tileWidth != 0 {
			var err error
			if data, err = read(at); err != nil {
				return err
			}
			if want := int(n%tileWidth) * tlog.HashSize; len(data) < want {
				return fmt.Errorf(
					"the tree that is kept of the ledger is not whole: tile %d of level %d has %d hashes, not %d", at.N,
					at.Level, len(data)/tlog.HashSize, n%tileWidth,
				)
			} else {
				data = append([]byte{}, data[:want]...)
			}
		}
		data = append(data, h[:]...)
		grown[at] = data
		if len(data) < tileWidth*tlog.HashSize {
			return nil
		}
		var whole Edge
		for i := 0; i < len(data); i += tlog.HashSize {
			whole.Add(tlog.Hash(data[i : i+tlog.HashSize]))
		}
		return add(level+1, at.N, whole.Root())
	}
	for i, h := range leaves {
		if err := add(0, size+int64(i), h); err != nil {
			return nil, err
		}
	}
	return grown, nil
}
