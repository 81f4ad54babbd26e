//go:build !amd64

package lanes

// Fast reports whether messages are worked on side by side here.
var Fast = false

func block8(*[8][Width]uint32, *[Width]*byte, int) {
	panic("messages are not worked on side by side here")
}

func able() bool { return false }
