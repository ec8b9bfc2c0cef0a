package splice

import "strings"

// Setting is a key with its value.
type Setting struct{ Key, Value string }

// SetINI sets a key in a section of a file of lines key = value, in sections
// [name]; the section "" is what stands before the first. Files of npm and of
// Java properties are of that form too. A missing section comes last, a missing
// key at the end of its section; what continues a value in indented lines goes
// with it.
func SetINI(existing, section, key, value string) (string, error) {
	made, err := setINI(existing, section, key, value)
	if err == nil {
		err = checkINI(made, section, key)
	}
	if err != nil {
		return "", err
	}
	return made, nil
}

func setINI(existing, section, key, value string) (string, error) {
	if strings.ContainsAny(value, "\r\n") {
		return "", cannot("the value of %s has a line break", key)
	}
	all, nl := lines(closed(existing)), ending(existing)
	start, end := iniSection(all, section)
	if start < 0 {
		if section == "" {
			start, end = 0, 0
		} else {
			text := strings.Join(all, "")
			if text != "" {
				text += nl
			}
			return text + "[" + section + "]" + nl + key + " = " + value + nl, nil
		}
	}
	between := " = "
	if section == "" {
		between = "="
	}
	for i := start; i < end; i++ {
		k, _, ok := iniLine(all[i])
		if !ok || k != key {
			continue
		}
		last := i + 1
		for last < end && continues(all[last]) {
			last++
		}
		if _, v, _ := iniLine(all[i]); v == value && last == i+1 {
			return existing, nil
		}
		// As it was written: with spaces around the sign or not.
		head, _, _ := strings.Cut(all[i], "=")
		if rest := all[i][len(head):]; strings.HasPrefix(rest, "= ") {
			head += "= "
		} else {
			head += "="
		}
		return strings.Join(all[:i], "") + head + value + nl + strings.Join(all[last:], ""), nil
	}
	at := end
	for at > start && strings.TrimSpace(all[at-1]) == "" {
		at--
	}
	return strings.Join(all[:at], "") + key + between + value + nl + strings.Join(all[at:], ""), nil
}

// GetINI gives the value of a key, continuing lines with line breaks between
// them.
func GetINI(existing, section, key string) (value string, ok bool) {
	all := lines(existing)
	start, end := iniSection(all, section)
	for i := max(start, 0); i < end; i++ {
		k, v, isSetting := iniLine(all[i])
		if !isSetting || k != key {
			continue
		}
		value, ok = v, true
		for i++; i < end && continues(all[i]); i++ {
			value += "\n" + strings.TrimSpace(all[i])
		}
		i--
	}
	return value, ok
}

// AllINI gives the settings of a section.
func AllINI(existing, section string) (all []Setting) {
	split := lines(existing)
	start, end := iniSection(split, section)
	for i := max(start, 0); i < end; i++ {
		if k, v, ok := iniLine(split[i]); ok {
			all = append(all, Setting{k, v})
		}
	}
	return all
}

// SectionsINI lists the names of the sections.
func SectionsINI(existing string) (names []string) {
	for _, line := range lines(existing) {
		if name, ok := iniHead(line); ok {
			names = append(names, name)
		}
	}
	return names
}

// AddToINI adds an item to a value that is a list, one in each line.
func AddToINI(existing, section, key, item string) (string, error) {
	made, err := addToINI(existing, section, key, item)
	if err == nil {
		err = checkINI(made, section, key)
	}
	if err != nil {
		return "", err
	}
	return made, nil
}

func addToINI(existing, section, key, item string) (string, error) {
	value, ok := GetINI(existing, section, key)
	if !ok || strings.TrimSpace(value) == "" {
		return SetINI(existing, section, key, item)
	}
	items := strings.Fields(strings.ReplaceAll(value, ",", " "))
	for _, known := range items {
		if known == item {
			return existing, nil
		}
	}
	all, nl := lines(closed(existing)), ending(existing)
	start, end := iniSection(all, section)
	for i := start; i < end; i++ {
		k, v, ok := iniLine(all[i])
		if !ok || k != key {
			continue
		}
		last := i + 1
		for last < end && continues(all[last]) {
			last++
		}
		if last > i+1 {
			return strings.Join(all[:last], "") + indentOf(all[last-1]) + item + nl + strings.Join(all[last:], ""), nil
		}
		// One line becomes several.
		head, _, _ := strings.Cut(all[i], "=")
		made := strings.TrimRight(head, " \t") + " =" + nl
		for _, known := range append(strings.Fields(strings.ReplaceAll(v, ",", " ")), item) {
			made += "    " + known + nl
		}
		return strings.Join(all[:i], "") + made + strings.Join(all[last:], ""), nil
	}
	return SetINI(existing, section, key, item)
}

func iniHead(line string) (string, bool) {
	text := strings.TrimSpace(line)
	if strings.HasPrefix(text, "[") && strings.HasSuffix(text, "]") && !strings.HasPrefix(line, " ") {
		return strings.TrimSpace(text[1 : len(text)-1]), true
	}
	return "", false
}

// iniSection gives the lines of a section, without its head; start is -1 if it
// is not there.
func iniSection(all []string, section string) (start, end int) {
	start, end = -1, len(all)
	if section == "" {
		start = 0
	}
	for i, line := range all {
		name, ok := iniHead(line)
		switch {
		case !ok:
		case start >= 0:
			return start, i
		case name == section:
			start = i + 1
		}
	}
	if start < 0 {
		return -1, 0
	}
	return start, end
}

func iniLine(line string) (key, value string, ok bool) {
	text := strings.TrimSpace(line)
	if text == "" || strings.HasPrefix(text, "#") || strings.HasPrefix(text, ";") || strings.HasPrefix(text, "!") ||
		continues(line) {
		return "", "", false
	}
	key, value, ok = strings.Cut(text, "=")
	return strings.TrimSpace(key), strings.TrimSpace(value), ok
}

// continues tells whether a line belongs to the value of the one before.
func continues(line string) bool {
	return strings.TrimSpace(line) != "" && indentOf(line) != "" && !strings.HasPrefix(strings.TrimSpace(line), "#")
}
