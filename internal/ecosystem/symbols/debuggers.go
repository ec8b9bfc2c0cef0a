package symbols

import (
	"regexp"
	"strings"

	"crelvo/internal/core/splice"
	"crelvo/internal/ecosystem"
)

// debugger is a client that is told by a line in a file where symbols are; name and secret are in the address.
type debugger struct {
	name, title, file, language string
	agents                      []string
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
	{name: "debuginfod", title: "debuginfod clients", agents: []string{"elfutils"}, file: "~/.config/environment.d/90-debuginfod.conf", language: "ini",
		before: "DEBUGINFOD_URLS=", commands: func(address string) []string {
			return []string{`export DEBUGINFOD_URLS="` + address + `"`, "debuginfod-find debuginfo BUILD-ID"}
		}},
}

// Clients implements ecosystem.Ecosystem.
func (Symbols) Clients() (all []ecosystem.PackageClient) {
	for _, d := range debuggers {
		all = append(all, d.client())
	}
	return append(all, ofWindows...)
}

// probe is what is asked for to see whether symbols can be had.
const probe = "metadata?key=buildid&value=0"

// ofWindows are clients that keep neither address nor secret in files: WinDbg asks who one is (!sym prompts), and
// dotnet-symbol is told each time.
var ofWindows = []ecosystem.PackageClient{
	{Name: "windbg", Title: "WinDbg", Agents: []string{"Microsoft-Symbol-Server"}, Outside: true, Probe: probe,
		Parts: func(ecosystem.Pointing) []ecosystem.Piece { return nil }, Uses: byVariable,
		Commands: func(p ecosystem.Pointing) []string {
			return []string{`.sympath+ srv*C:\symbols*` + withoutSlash(p.Address),
				"$$ It asks who you are: give your name, and a token as the password.", "!sym prompts on", ".reload"}
		},
		Variables: func(p ecosystem.Pointing) []splice.Setting {
			return []splice.Setting{{Key: "_NT_SYMBOL_PATH", Value: `srv*C:\symbols*` + withoutSlash(p.Address)}}
		}},
	{Name: "dotnet-symbol", Title: "dotnet-symbol", Outside: true, Probe: probe,
		Parts: func(ecosystem.Pointing) []ecosystem.Piece { return nil }, Uses: byVariable,
		Commands: func(p ecosystem.Pointing) []string {
			return []string{`dotnet-symbol --authenticated-server-path "$CRELVO_TOKEN" ` + withoutSlash(p.Address) +
				" --symbols PROGRAM.dll"}
		},
		Variables: func(p ecosystem.Pointing) []splice.Setting {
			return []splice.Setting{{Key: ecosystem.TokenVariable, Value: p.Token()}}
		}},
}

// byVariable is what a client would use that is given address and token each time.
func byVariable(f ecosystem.Files) []ecosystem.Use {
	secret := f.Env(ecosystem.TokenVariable)
	if secret == "" {
		return nil
	}
	return []ecosystem.Use{{Address: f.At, In: "the command line", Secret: secret,
		SecretIn: "the variable " + ecosystem.TokenVariable}}
}

func withoutSlash(address string) string { return strings.TrimSuffix(address, "/") }

// symbolsAt is where debuggers ask, with name and secret in it.
func symbolsAt(p ecosystem.Pointing) string { return p.WithSecret(withoutSlash(p.Address)) }

func (d debugger) client() ecosystem.PackageClient {
	return ecosystem.PackageClient{Name: d.name, Title: d.title, Agents: d.agents,
		Parts: func(p ecosystem.Pointing) []ecosystem.Piece {
			return []ecosystem.Piece{{Title: "Where symbols come from, and who you are there", File: d.file,
				Language: d.language,
				Secret:   true, Edit: func(text string) (string, error) { return d.edit(text, symbolsAt(p)), nil }}}
		},
		Uses:     d.uses,
		Commands: func(p ecosystem.Pointing) []string { return d.commands(withoutSlash(p.Address)) },
		Variables: func(p ecosystem.Pointing) []splice.Setting {
			return []splice.Setting{{Key: "DEBUGINFOD_URLS", Value: symbolsAt(p)}}
		},
		Probe: probe}
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
	found := regexp.MustCompile(`(?m)^` + regexp.QuoteMeta(d.before) + `([\s\S]*?/at/[^/]+/` + Name + `)`).
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
