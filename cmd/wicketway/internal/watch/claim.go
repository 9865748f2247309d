package watch

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"github.com/go-json-experiment/json"
)

// A claim is a file that tells other watchers who keeps an address.
type claim struct {
	file    string // "" where there is no place for it
	Process int
	Package string
	Folder  string
	URLs    []string
}

func claims() (string, error) {
	cache, err := os.UserCacheDir()
	return filepath.Join(cache, "wicketway", "watch"), err
}

func newClaim(pkg string) claim {
	c := claim{Process: os.Getpid(), Package: pkg}
	c.Folder, _ = os.Getwd()
	if dir, err := claims(); err == nil && os.MkdirAll(dir, 0o700) == nil {
		c.file = filepath.Join(dir, strconv.Itoa(c.Process)+".json")
	}
	return c
}

// write makes the claim: without it another watcher says less.
func (c *claim) write(urls []string) {
	c.URLs = urls
	if text, err := json.Marshal(c); err == nil && c.file != "" {
		os.WriteFile(c.file, text, 0o600)
	}
}

func (c *claim) remove() {
	if c.file != "" {
		os.Remove(c.file)
	}
}

// inUse says which watcher has an address. Claims of watchers that are gone are removed.
func inUse(address string) string {
	dir, err := claims()
	if err != nil {
		return ""
	}
	_, port, _ := strings.Cut(address[strings.LastIndexByte(address, ']')+1:], ":")
	names, _ := filepath.Glob(filepath.Join(dir, "*.json"))
	for _, name := range names {
		var c claim
		text, err := os.ReadFile(name)
		if err != nil || json.Unmarshal(text, &c) != nil {
			continue
		}
		if p, err := os.FindProcess(c.Process); err != nil || p.Signal(syscall.Signal(0)) != nil {
			os.Remove(name)
			continue
		}
		for _, url := range c.URLs {
			if c.Process != os.Getpid() && (strings.Contains(url, ":"+port+"/") || strings.HasSuffix(url, address)) {
				return fmt.Sprintf("; wicketway watch %s in %s, process %d, keeps it", c.Package, c.Folder, c.Process)
			}
		}
	}
	return ""
}
