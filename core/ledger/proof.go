package ledger

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/transparency-dev/formats/proof"
	"golang.org/x/mod/sumdb/tlog"
)

// Prove gives a file that shows that an entry is in the ledger a checkpoint was signed of
// (c2sp.org/tlog-proof): the entry as JSON, its place, the hashes beside its way to the root, and
// the checkpoint.
func Prove(e Entry, size int64, checkpoint []byte, read Tiles) ([]byte, error) {
	if e.Seq < 1 || e.Seq > size {
		return nil, fmt.Errorf("entry %d is not among the %d of the checkpoint", e.Seq, size)
	}
	way, err := tlog.ProveRecord(size, e.Seq-1, read)
	if err != nil {
		return nil, err
	}
	p := proof.TLogProof{Index: uint64(e.Seq - 1), Checkpoint: checkpoint, ExtraData: Leaf(e)}
	for _, h := range way {
		p.Hashes = append(p.Hashes, [sha256.Size]byte(h))
	}
	return p.Marshal(), nil
}

// Proven is what a file of Prove shows.
type Proven struct {
	Entry      Entry
	Checkpoint []byte // whose signatures are for the caller to check
	Claim      Checkpoint
}

// ErrAltered is given where a proof does not prove.
var ErrAltered = errors.New("it was altered")

// maxProof is how long such a file may be.
const maxProof = 16 << 20

// CheckProof reads a file of Prove: the entry is in the tree that the checkpoint in it names. Who
// signed that is not looked at.
func CheckProof(text []byte) (out Proven, err error) {
	var p proof.TLogProof
	if len(text) > maxProof {
		return out, fmt.Errorf("it is longer than %d bytes", maxProof)
	}
	if err := unmarshalProof(text, &p); err != nil {
		return out, fmt.Errorf("it is no proof of an entry: %w", err)
	}
	if err := json.Unmarshal(p.ExtraData, &out.Entry); err != nil {
		return out, fmt.Errorf("it holds no entry: %w", err)
	}
	out.Checkpoint = p.Checkpoint
	if out.Claim, err = Claim(p.Checkpoint); err != nil {
		return out, err
	}
	sealed := out.Entry
	sealed.Hash = digest(p.ExtraData)
	if string(Leaf(sealed)) != string(p.ExtraData) || int64(p.Index) != out.Entry.Seq-1 {
		return out, fmt.Errorf("%w: the entry is not as one is written, or not at its place", ErrAltered)
	}
	way := make(tlog.RecordProof, len(p.Hashes))
	for i, h := range p.Hashes {
		way[i] = h
	}
	if err := tlog.CheckRecord(
		way, out.Claim.Size, out.Claim.Root, int64(p.Index), tlog.RecordHash(p.ExtraData),
	); err != nil {
		return out, fmt.Errorf(
			"%w: entry %d is not in the record that the checkpoint was signed of", ErrAltered, out.Entry.Seq,
		)
	}
	return out, nil
}

// unmarshalProof reads the open form. The library reads lines up to 64 kB: the entry is put there
// apart.
func unmarshalProof(text []byte, p *proof.TLogProof) error {
	first, rest, _ := strings.Cut(string(text), "\n")
	line, after, _ := strings.Cut(rest, "\n")
	extra, ok := strings.CutPrefix(line, "extra ")
	if !ok {
		return errors.New("the entry is missing")
	}
	data, err := base64.StdEncoding.DecodeString(extra)
	if err != nil {
		return fmt.Errorf("the entry is not in base64: %w", err)
	}
	if err := p.Unmarshal([]byte(first + "\n" + after)); err != nil {
		return err
	}
	p.ExtraData = data
	return nil
}

// ProveExtends gives a text that shows that the ledger of a checkpoint goes on from one of another
// size, with nothing of that rewritten: what a witness is asked (c2sp.org/tlog-witness).
func ProveExtends(old, size int64, checkpoint []byte, read Tiles) ([]byte, error) {
	var b strings.Builder
	_, _ = fmt.Fprintf(&b, "old %d\n", old)
	if old > size {
		return nil, fmt.Errorf("the checkpoint is of %d entries, and does not go on from %d", size, old)
	}
	if old > 0 && old < size {
		way, err := tlog.ProveTree(size, old, read)
		if err != nil {
			return nil, err
		}
		for _, h := range way {
			_, _ = fmt.Fprintf(&b, "%s\n", h)
		}
	}
	return append([]byte(b.String()+"\n"), checkpoint...), nil
}

// Extending is what a text of ProveExtends says.
type Extending struct {
	Old        int64
	Way        tlog.TreeProof
	Checkpoint []byte
}

// mostHashes is how many hashes such a text may hold (c2sp.org/tlog-witness).
const mostHashes = 63

// ReadExtends reads a text of ProveExtends.
func ReadExtends(text []byte) (out Extending, err error) {
	head, checkpoint, ok := strings.Cut(string(text), "\n\n")
	lines := strings.Split(head, "\n")
	old, found := strings.CutPrefix(lines[0], "old ")
	if !ok || !found || len(text) > maxNote+mostHashes*64 || len(lines)-1 > mostHashes {
		return out, errors.New("it is no proof that a record goes on from another")
	}
	if out.Old, err = strconv.ParseInt(old, 10, 64); err != nil || out.Old < 0 ||
		old != strconv.FormatInt(out.Old, 10) {
		return out, errors.New("it does not say from how many entries")
	}
	for _, line := range lines[1:] {
		h, err := tlog.ParseHash(line)
		if err != nil {
			return out, errors.New("one of its hashes is none")
		}
		out.Way = append(out.Way, h)
	}
	out.Checkpoint = []byte(checkpoint)
	return out, nil
}

// Check tells whether the ledger of a checkpoint goes on from another's.
func (x Extending) Check(old, now Checkpoint) error {
	switch {
	case old.Size != x.Old:
		return fmt.Errorf("it goes on from %d entries, and the other checkpoint is of %d", x.Old, old.Size)
	case now.Size < old.Size:
		return fmt.Errorf("%w: %d entries are left of %d", ErrAltered, now.Size, old.Size)
	case old.Size == 0 && len(x.Way) == 0:
		return nil // all goes on from nothing
	case now.Size == old.Size:
		if now.Root != old.Root || len(x.Way) > 0 {
			return fmt.Errorf("%w: of the same %d entries there are two records", ErrAltered, old.Size)
		}
		return nil
	}
	if err := tlog.CheckTree(x.Way, now.Size, now.Root, old.Size, old.Root); err != nil {
		return fmt.Errorf("%w: the first %d entries are not what they were", ErrAltered, old.Size)
	}
	return nil
}
