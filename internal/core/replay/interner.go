package replay

// interner gives each 64-bit hash a dense number. Two clients whose hashes are
// equal are taken for one: among a million that is one chance in 37 million.
type interner struct {
	slots []slot
	n     uint32
}

type slot struct {
	hash uint64
	id   uint32 // 0 for an empty slot, else number+1
}

func (t *interner) number(hash uint64) (uint32, bool) {
	if int(t.n)*4 >= len(t.slots)*3 {
		t.grow()
	}
	mask := uint64(len(t.slots) - 1)
	for i := hash * 0x9e3779b97f4a7c15 >> 20 & mask; ; i = (i + 1) & mask {
		s := &t.slots[i]
		if s.id == 0 {
			t.n++
			*s = slot{hash, t.n}
			return t.n - 1, true
		}
		if s.hash == hash {
			return s.id - 1, false
		}
	}
}

func (t *interner) grow() {
	old := t.slots
	t.slots = make([]slot, max(1024, 2*len(old)))
	mask := uint64(len(t.slots) - 1)
	for _, s := range old {
		if s.id == 0 {
			continue
		}
		i := s.hash * 0x9e3779b97f4a7c15 >> 20 & mask
		for t.slots[i].id != 0 {
			i = (i + 1) & mask
		}
		t.slots[i] = s
	}
}
