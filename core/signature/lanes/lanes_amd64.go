package lanes

// Fast reports whether messages are worked on side by side here: the processor has AVX2, which the system saves, and no
// instructions for SHA-256 (leaf 7 of CPUID).
var Fast = able() && !instructions()

// able reports whether the processor has AVX2, and the system saves its registers.
func able() bool {
	if most, _, _, _ := cpuid(0, 0); most < 7 {
		return false
	}
	_, _, c, _ := cpuid(1, 0)
	if c>>27&1 == 0 || saved()&6 != 6 {
		return false
	}
	_, b, _, _ := cpuid(7, 0)
	return b>>5&1 == 1
}

// instructions reports whether the processor has instructions for SHA-256.
func instructions() bool {
	_, b, _, _ := cpuid(7, 0)
	return b>>29&1 == 1
}

//go:noescape
func block8(state *[8][Width]uint32, data *[Width]*byte, blocks int)

func cpuid(leaf, sub uint32) (a, b, c, d uint32)

func saved() uint32
