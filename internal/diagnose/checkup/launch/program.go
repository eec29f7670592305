package launch

import (
	"bytes"
	"debug/elf"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"bouncer/internal/core/evidence"
)

// readProgram reads the beginning of a program: the interpreter that its first line
// names, and whether this machine can run it.
func (r run) readProgram(p *evidence.Process) {
	f, err := os.Open(p.Path)
	if err != nil {
		return // it may be executed and not read
	}
	defer f.Close()
	head := make([]byte, 512)
	n, _ := f.Read(head)
	head = head[:n]
	switch {
	case bytes.HasPrefix(head, []byte("#!")):
		line, _, _ := bytes.Cut(head[2:], []byte("\n"))
		r.interpreter(p, string(line))
	case bytes.HasPrefix(head, []byte{0xEF, 0xBB, 0xBF, '#', '!'}):
		p.Format = "a byte-order mark stands before its first line"
	case bytes.HasPrefix(head, []byte(elf.ELFMAG)):
		machine(p, f)
	case n == 0:
		p.Format = "it is empty"
	case !bytes.HasPrefix(head, []byte("\xca\xfe\xba\xbe")) && runtime.GOOS == "linux" && strings.IndexByte(string(head), 0) < 0:
		p.Format = "it is a text without a first line that names its interpreter"
	case runtime.GOOS == "linux":
		p.Format = "it is no program of this system"
	}
}

// interpreter looks for what a first line names.
func (r run) interpreter(p *evidence.Process, line string) {
	p.CarriageReturn = strings.HasSuffix(line, "\r")
	words := strings.Fields(strings.TrimSpace(line))
	if len(words) == 0 {
		p.Format = "its first line names no interpreter"
		return
	}
	p.Interpreter = strings.Join(words, " ")
	if _, err := os.Stat(words[0]); err != nil {
		p.InterpreterMissing = words[0]
		return
	}
	if p.CarriageReturn {
		p.InterpreterMissing = words[len(words)-1] + `\r`
		if len(words) == 1 {
			p.InterpreterMissing = words[0] + `\r`
		}
		return
	}
	if filepath.Base(words[0]) != "env" {
		return
	}
	words = slices.DeleteFunc(words[1:], func(w string) bool { return strings.HasPrefix(w, "-") || strings.Contains(w, "=") })
	if len(words) == 0 {
		return
	}
	if _, err := exec.LookPath(words[0]); err != nil {
		p.InterpreterMissing = words[0]
	}
}

// machines are those that programs of this machine are for.
var machines = map[string]elf.Machine{
	"amd64":   elf.EM_X86_64,
	"arm64":   elf.EM_AARCH64,
	"386":     elf.EM_386,
	"arm":     elf.EM_ARM,
	"riscv64": elf.EM_RISCV,
}

func machine(p *evidence.Process, f *os.File) {
	program, err := elf.NewFile(f)
	if err != nil {
		p.Format = "it is broken"
		return
	}
	if want, ok := machines[runtime.GOARCH]; ok && program.Machine != want && (want != elf.EM_X86_64 || program.Machine != elf.EM_386) {
		p.Format = "it is for another machine (" + strings.ToLower(
			strings.TrimPrefix(program.Machine.String(), "EM_"),
		) + ", and this one is " + runtime.GOARCH + ")"
	}
	for _, part := range program.Progs {
		if part.Type != elf.PT_INTERP {
			continue
		}
		raw := make([]byte, part.Filesz)
		if _, err := part.ReadAt(raw, 0); err != nil {
			return
		}
		loader := strings.TrimRight(string(raw), "\x00")
		if _, err := os.Stat(loader); err != nil && p.Format == "" {
			p.Interpreter, p.InterpreterMissing = loader, loader
		}
	}
}

// runtimes are programs whose first argument that is no option is a file to run.
var runtimes = []string{
	"python",
	"node",
	"ruby",
	"perl",
	"php",
	"deno",
	"bun",
	"tsx",
	"ts-node",
	"lua",
	"Rscript",
	"pwsh",
	"bash",
	"sh",
	"dash",
	"zsh",
	"java",
}

// script is the file that a runtime is to run, and whether it is missing.
func script(path, dir string, args []string) (file string, missing bool) {
	name := strings.TrimRight(filepath.Base(path), "0123456789.")
	if !slices.Contains(runtimes, name) {
		return "", false
	}
	for i, arg := range args {
		switch {
		case name == "java" && arg == "-jar" && i+1 < len(args):
			return there(args[i+1], dir)
		case name == "java":
			continue
		case arg == "-m", arg == "-c", arg == "-e", arg == "--eval", arg == "-p", arg == "run", arg == "-":
			return "", false
		case strings.HasPrefix(arg, "-"):
			continue
		}
		return there(arg, dir)
	}
	return "", false
}

func there(file, dir string) (string, bool) {
	if !filepath.IsAbs(file) {
		if dir == "" {
			dir, _ = os.Getwd()
		}
		file = filepath.Join(dir, file)
	}
	_, err := os.Stat(file)
	return file, err != nil
}
