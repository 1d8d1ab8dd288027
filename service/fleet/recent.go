package fleet

import (
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Recent keeps configurations that were read lately. Devices are asked for the
// same again and again, and the same bytes give the same tree.
type Recent struct {
	mu   sync.Mutex
	held int // bytes of their sources
	list *simplelru.LRU[recentKey, recentTree]
}

// recentBytes is how much may be kept, as bytes of XML; a tree is about one and
// a half times as large.
const recentBytes = 64 << 20

// recentKey names a source: where it was read by which schema, and what it is.
type recentKey struct {
	schema *schema.Schema
	source string
}

type recentTree struct {
	root *tree.Node
	size int
}

func newRecent() *Recent {
	r := &Recent{}
	list, err := simplelru.NewLRU(1<<20, func(_ recentKey, t recentTree) { r.held -= t.size })
	if err != nil {
		panic(err) // the size is a constant
	}
	r.list = list
	return r
}

// Tree gives what a source reads to. Where that is not known it is read, which
// also tells the source's size in bytes.
func (r *Recent) Tree(s *schema.Schema, source string, read func() (*tree.Node, int, error)) (*tree.Node, error) {
	key := recentKey{s, source}
	r.mu.Lock()
	have, ok := r.list.Get(key)
	r.mu.Unlock()
	if ok {
		return have.root, nil
	}
	root, size, err := read()
	if err != nil {
		return nil, err
	}
	r.Keep(s, source, root, size)
	return root, nil
}

// Has gives what a source reads to, nil where that is not at hand.
func (r *Recent) Has(s *schema.Schema, source string) *tree.Node {
	r.mu.Lock()
	defer r.mu.Unlock()
	have, _ := r.list.Get(recentKey{s, source})
	return have.root
}

// Keep remembers what a source of a size reads to.
func (r *Recent) Keep(s *schema.Schema, source string, root *tree.Node, size int) {
	if size > recentBytes/4 {
		return
	}
	key := recentKey{s, source}
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, there := r.list.Peek(key); !there {
		r.list.Add(key, recentTree{root, size})
		r.held += size
	}
	for r.held > recentBytes {
		r.list.RemoveOldest()
	}
}
