package splice

import "strings"

// SetNetrc sets who signs in to a host, in the form of ~/.netrc. Entries for
// other hosts stay.
func SetNetrc(existing, host, login, password string) (string, error) {
	if strings.ContainsAny(login+password, " \t\r\n") {
		return "", cannot("the name or the secret has a space or a line break")
	}
	if err := checkSafeNetrc(existing); err != nil {
		return "", err
	}
	if l, p, ok := GetNetrc(existing, host); ok && l == login && p == password {
		return existing, nil
	}
	nl := ending(existing)
	entry := "machine " + host + nl + "  login " + login + nl + "  password " + password + nl
	start, end := netrcEntry(existing, host)
	if start >= 0 {
		return checkNetrc(existing[:start]+entry+existing[end:], host, login)
	}
	if at, _ := netrcEntry(existing, ""); at >= 0 {
		return checkNetrc(existing[:at]+entry+existing[at:], host, login) // what is after the default is not read
	}
	return checkNetrc(closed(existing)+entry, host, login)
}

// checkNetrc: a file that was damaged before may take the entry for something
// else.
func checkNetrc(text, host, login string) (string, error) {
	if l, _, ok := GetNetrc(text, host); !ok || l != login {
		return "", cannot("an entry in it is not whole")
	}
	return text, nil
}

// GetNetrc tells who signs in to a host.
func GetNetrc(existing, host string) (login, password string, ok bool) {
	start, end := netrcEntry(existing, host)
	if start < 0 {
		return "", "", false
	}
	words := strings.Fields(existing[start:end])
	for i := 0; i+1 < len(words); i++ {
		switch words[i] {
		case "login":
			login = words[i+1]
		case "password":
			password = words[i+1]
		}
	}
	return login, password, true
}

// netrcEntry finds the entry of a host, or with "" the default one.
func netrcEntry(text, host string) (start, end int) {
	start = -1
	at := 0
	for at < len(text) {
		for at < len(text) && strings.IndexByte(" \t\r\n", text[at]) >= 0 {
			at++
		}
		begin := at
		if at < len(text) && text[at] == '#' {
			for at < len(text) && text[at] != '\n' {
				at++
			}
			continue
		}
		word := func() string {
			from := at
			for at < len(text) && strings.IndexByte(" \t\r\n", text[at]) < 0 {
				at++
			}
			return text[from:at]
		}
		first := word()
		if first != "machine" && first != "default" && first != "macdef" {
			continue
		}
		if start >= 0 {
			return start, begin
		}
		named := ""
		if first == "machine" {
			for at < len(text) && strings.IndexByte(" \t\r\n", text[at]) >= 0 {
				at++
			}
			named = word()
		}
		if first == "machine" && host != "" && named == host || first == "default" && host == "" {
			start = begin
		}
	}
	return start, len(text)
}
