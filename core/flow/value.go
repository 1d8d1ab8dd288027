package flow

import (
	"cmp"
	"encoding/binary"
	"math/bits"
	"net/netip"
)

// value is a value of a field: an address, or a number in lo.
type value struct{ hi, lo uint64 }

func num(n uint64) value { return value{0, n} }

func (v value) compare(w value) int {
	if c := cmp.Compare(v.hi, w.hi); c != 0 {
		return c
	}
	return cmp.Compare(v.lo, w.lo)
}

func (v value) less(w value) bool { return v.hi < w.hi || v.hi == w.hi && v.lo < w.lo }

// next is the value behind v; what is behind the last one is never asked.
func (v value) next() value {
	lo, carry := bits.Add64(v.lo, 1, 0)
	return value{v.hi + carry, lo}
}

func (v value) prev() value {
	lo, borrow := bits.Sub64(v.lo, 1, 0)
	return value{v.hi - borrow, lo}
}

func addressValue(a netip.Addr) value {
	if a.Is4() {
		b := a.As4()
		return num(uint64(binary.BigEndian.Uint32(b[:])))
	}
	b := a.As16()
	return value{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}
}

func (v value) address(f Family) netip.Addr {
	if f == IPv4 {
		var b [4]byte
		binary.BigEndian.PutUint32(b[:], uint32(v.lo))
		return netip.AddrFrom4(b)
	}
	var b [16]byte
	binary.BigEndian.PutUint64(b[:8], v.hi)
	binary.BigEndian.PutUint64(b[8:], v.lo)
	return netip.AddrFrom16(b)
}

// span is the values from lo to hi, both of them too.
type span struct{ lo, hi value }

// prefixSpan gives the addresses of a prefix.
func prefixSpan(p netip.Prefix) span {
	p = p.Masked()
	lo := addressValue(p.Addr())
	host := p.Addr().BitLen() - p.Bits()
	hi := lo
	switch {
	case host >= 128:
		hi = value{^uint64(0), ^uint64(0)}
	case host >= 64:
		hi.lo = ^uint64(0)
		hi.hi |= 1<<(host-64) - 1
	default:
		hi.lo |= 1<<host - 1
	}
	return span{lo, hi}
}

// prefixes gives the prefixes that a span of addresses is made of, as few as
// there can be; nil where they are more than most.
func (s span) prefixes(f Family, most int) (out []netip.Prefix) {
	width := f.bits()
	for at := s.lo; ; {
		// The largest prefix that begins here and ends within the span.
		n := 0
		for n < width {
			wider := prefixSpan(netip.PrefixFrom(at.address(f), width-n-1))
			if wider.lo != at || s.hi.less(wider.hi) {
				break
			}
			n++
		}
		if len(out) == most {
			return nil
		}
		p := netip.PrefixFrom(at.address(f), width-n)
		out = append(out, p)
		end := prefixSpan(p).hi
		if end == s.hi {
			return out
		}
		at = end.next()
	}
}
