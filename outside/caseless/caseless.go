// Package caseless gives tests a file system that ignores the case of names.
package caseless

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Mount mounts a file system that ignores the case of names, and returns its directory: exFAT, from a file, through
// FUSE. If that fails, the test is skipped, or fails with KNOTHOLE_CASELESS=needed.
func Mount(t *testing.T) string {
	t.Helper()
	missing := func(why string) string {
		if os.Getenv("KNOTHOLE_CASELESS") == "needed" {
			t.Fatalf("a file system without case is needed: %s", why)
		}
		t.Skipf("no file system without case here: %s", why)
		return ""
	}
	image, at := filepath.Join(t.TempDir(), "image"), t.TempDir()
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 64<<20))
	if said, err := exec.Command("mkfs.exfat", image).CombinedOutput(); err != nil {
		return missing(string(said) + err.Error())
	}
	device, err := exec.Command("losetup", "-f", "--show", image).Output()
	if err != nil {
		return missing("losetup: " + err.Error())
	}
	loop := strings.TrimSpace(string(device))
	t.Cleanup(func() { _ = exec.Command("losetup", "-d", loop).Run() })
	if said, err := exec.Command("mount.exfat-fuse", loop, at).CombinedOutput(); err != nil {
		return missing(string(said) + err.Error())
	}
	t.Cleanup(func() { _ = exec.Command("umount", at).Run() })
	return at
}
