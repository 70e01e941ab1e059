package wire

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// holder names the program that has a device open, as far as this user may see it; "" when none is seen. This one is not named.
func holder(device string) string {
	wanted, err := filepath.EvalSymlinks(device)
	if err != nil {
		return ""
	}
	processes, err := os.ReadDir("/proc")
	if err != nil {
		return ""
	}
	for _, process := range processes {
		id, err := strconv.Atoi(process.Name())
		if err != nil || id == os.Getpid() {
			continue
		}
		open := filepath.Join("/proc", process.Name(), "fd")
		files, err := os.ReadDir(open)
		if err != nil { // another user's
			continue
		}
		for _, f := range files {
			if target, err := os.Readlink(filepath.Join(open, f.Name())); err == nil && target == wanted {
				name, _ := os.ReadFile(filepath.Join("/proc", process.Name(), "comm"))
				return fmt.Sprintf("%s (process %d)", strings.TrimSpace(string(name)), id)
			}
		}
	}
	return ""
}
