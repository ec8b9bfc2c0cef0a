package generic

import (
	"regexp"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// debugger is a client that is told by a line in a file where symbols are; name and secret are in the address.
type debugger struct {
	name, title, file, language string
	before, after               string // what stands around the address
	also                        string // a line that it needs besides; "" for none
	commands                    func(address string) []string
}

var debuggers = []debugger{
	{name: "gdb", title: "gdb", file: "~/.gdbinit", language: "text", before: "set debuginfod urls ",
		also:     "set debuginfod enabled on",
		commands: func(string) []string { return []string{"gdb PROGRAM", "gdb PROGRAM CORE"} }},
	{name: "lldb", title: "LLDB", file: "~/.lldbinit", language: "text",
		before: `settings set plugin.symbol-locator.debuginfod.server-urls "`, after: `"`,
		commands: func(string) []string { return []string{"lldb PROGRAM", "lldb PROGRAM --core CORE"} }},
	{name: "debuginfod", title: "debuginfod clients", file: "~/.config/environment.d/90-debuginfod.conf", language: "ini",
		before: "DEBUGINFOD_URLS=", commands: func(address string) []string {
			return []string{`export DEBUGINFOD_URLS="` + address + `"`, "debuginfod-find debuginfo BUILD-ID"}
		}},
}

// symbolsAt is where debuggers ask, with name and secret in it.
func symbolsAt(p ecosystem.Pointing) string { return p.WithSecret(p.Address + symbolsDoor) }

func (d debugger) client() ecosystem.PackageClient {
	return ecosystem.PackageClient{Name: d.name, Title: d.title,
		Parts: func(p ecosystem.Pointing) []ecosystem.Piece {
			return []ecosystem.Piece{{Title: "Where symbols come from, and who you are there", File: d.file,
				Language: d.language,
				Secret:   true, Edit: func(text string) (string, error) { return d.edit(text, symbolsAt(p)), nil }}}
		},
		Uses:     d.uses,
		Commands: func(p ecosystem.Pointing) []string { return d.commands(p.Address + symbolsDoor) },
		Variables: func(p ecosystem.Pointing) []splice.Setting {
			return []splice.Setting{{Key: "DEBUGINFOD_URLS", Value: symbolsAt(p)}}
		},
		Probe: symbolsDoor + "/metadata?key=buildid&value=0"}
}

// edit puts the address into the line that is about it, or adds one.
func (d debugger) edit(text, address string) string {
	lines, done := strings.Split(strings.TrimRight(text, "\n"), "\n"), false
	also := d.also == ""
	var all []string
	for _, line := range lines {
		if strings.HasPrefix(line, d.before) {
			if done {
				continue
			}
			line, done = d.before+address+d.after, true
		}
		also = also || line == d.also
		if line != "" || len(all) > 0 {
			all = append(all, line)
		}
	}
	if !done {
		all = append(all, d.before+address+d.after)
	}
	if !also {
		all = append(all, d.also)
	}
	return strings.Join(all, "\n") + "\n"
}

// uses reads the address in the file; a token that was pasted with a line break in it is as far as that.
func (d debugger) uses(f ecosystem.Files) []ecosystem.Use {
	text := f.Read(d.file)
	found := regexp.MustCompile(`(?m)^` + regexp.QuoteMeta(d.before) + `([\s\S]*?)/` + regexp.QuoteMeta(symbolsDoor)).
		FindStringSubmatch(text)
	if found == nil {
		return nil
	}
	plain, user, secret := ecosystem.Separate(strings.Join(strings.Fields(found[1]), "") + "/")
	if first := strings.Fields(found[1])[0]; first != found[1] {
		secret = first[strings.LastIndexByte(first, ':')+1:]
	}
	return []ecosystem.Use{{Address: plain, In: d.file, User: user, Secret: secret, SecretIn: d.file}}
}
