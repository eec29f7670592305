// Command packaging makes packages of the program: one for Debian with a unit for systemd, a
// tarball, and an image of the Open Container Initiative as a file, which needs no engine to
// be made. It is a module of its own, so that what makes packages is no part of the product.
package main

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
)

func main() {
	root := flag.String("root", "..", "`directory` of the source")
	program := flag.String("program", "../bin/bouncer", "`path` of the program")
	to := flag.String("to", "../bin/packages", "`directory` for the packages")
	flag.Parse()
	if err := run(*root, *program, *to); err != nil {
		fmt.Fprintln(os.Stderr, "packaging:", err)
		os.Exit(1)
	}
}

func run(root, program, to string) error {
	b, err := gather(root, program)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return fmt.Errorf("make the directory for packages: %w", err)
	}
	name := fmt.Sprintf("bouncer_%s_%s", b.version, b.arch)
	for _, one := range []struct {
		file string
		make func(built, string) error
	}{{name + ".deb", debian}, {name + ".tar.gz", portable}, {name + ".oci.tar", image}} {
		path := filepath.Join(to, one.file)
		if err := one.make(b, path); err != nil {
			return fmt.Errorf("make %s: %w", one.file, err)
		}
		info, err := os.Stat(path)
		if err != nil {
			return fmt.Errorf("look at what was made: %w", err)
		}
		fmt.Printf("%s  %.1f MiB\n", path, float64(info.Size())/(1<<20))
	}
	return nil
}
