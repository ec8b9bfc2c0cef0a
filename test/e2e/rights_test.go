package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"crelvo/internal/api"
	"crelvo/test/house"
)

// TestRightsCommands gives, asks about and takes away rights as an admin does.
func TestRightsCommands(t *testing.T) {
	home := t.TempDir()
	run := func(code int, token string, args ...string) (string, string) {
		t.Helper()
		out, errs, got := command(t, []string{"HOME=" + home, "CRELVO_TOKEN=" + token}, "", args...)
		if got != code {
			t.Fatalf("crelvo %s: exit code %d, want %d\n%s%s", strings.Join(args, " "), got, code, out, errs)
		}
		return out, errs
	}
	admin := func(code int, args ...string) (string, string) {
		t.Helper()
		return run(code, house.Token, args...)
	}
	releases, other := repository(t, "releases"), repository(t, "releases")
	n := made.Add(1)
	cook, robot, team := fmt.Sprintf("cook-%d", n), fmt.Sprintf("ci-galley-%d", n), fmt.Sprintf("galley-%d", n)

	password, errs := admin(0, "user", "add", cook, "--description", "makes soup")
	says(t, errs, "to be changed at the first sign-in", "crelvo grant add ROLE --to "+cook)
	out, _ := admin(0, "user", "add", robot, "--robot")
	says(t, out, "crelvo token new --for "+robot)
	_, errs = admin(1, "user", "add", "signed-in")
	says(t, errs, "stands for everybody")
	out, _ = admin(0, "team", "add", team, "--members", robot)
	says(t, out, "crelvo grant add ROLE --to team:"+team)
	_, errs = admin(3, "team", "edit", team, "--join", "nobody-at-all")
	says(t, errs, `no user or robot "nobody-at-all"`)
	admin(0, "team", "edit", team, "--join", cook)
	out, _ = admin(0, "grant", "add", "publisher", "--to", "team:"+team, "--on", releases, "--for",
		"pkg:maven/example.skerry.berth/*")
	says(t, out, "team:"+team+" is now publisher on "+releases)
	out, _ = admin(0, "grant", "add", "publisher", "--to", "team:"+team, "--on", releases, "--for",
		"pkg:maven/example.skerry.berth/*")
	says(t, out, "so already")
	_, errs = admin(0, "grant", "add", "reader", "--to", "team:"+team, "--on", releases+"-*")
	says(t, errs, "No repository that you may read fits "+releases+"-* yet")
	_, errs = admin(1, "grant", "add", "curator", "--to", "anonymous", "--on", releases)
	says(t, errs, "cannot be given to anonymous")
	_, errs = admin(2, "grant", "add", "captain", "--to", cook, "--on", releases)
	says(t, errs, `no role "captain"`)

	out, _ = admin(0, "grant", "check", cook, "publish", releases, "pkg:maven/example.skerry.berth/soup")
	says(t, out, "Yes: ", "because team:"+team+" is publisher on "+releases+" for pkg:maven/example.skerry.berth/*.")
	out, _ = admin(4, "grant", "check", cook, "publish", releases, "pkg:maven/org.elsewhere/soup")
	says(t, out, "No: ", "needs the role publisher on "+releases, "admin can grant it.")
	out, _ = admin(4, "grant", "check", cook, "read", other)
	says(t, out, "may not read "+other)
	out, _ = admin(0, "grant", "list", "--to", "team:"+team)
	says(t, out, "publisher", releases, "pkg:maven/example.skerry.berth/*", "admin")

	// A token never gives more than its owner has, also later.
	token, errs := admin(0, "token", "new", "--for", robot, "--can", "publish", "--on", releases, "--expires", "12h")
	says(t, errs, "publish-"+releases[:20])
	token = strings.TrimSpace(token)
	put := func(group string) house.Answer {
		t.Helper()
		a, err := shared.Ask(t.Context(), http.MethodPut,
			fmt.Sprintf("/at/%s/maven/%s/soup/1.0/soup-1.0.pom", releases, strings.ReplaceAll(group, ".", "/")), token,
			strings.NewReader(pom(group, "soup", "1.0", "<packaging>pom</packaging>")))
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	if a := put("example.skerry.berth"); a.Status != 201 {
		t.Errorf("published with the token: %d %s", a.Status, a.Reason)
	}
	if a := put("org.elsewhere"); a.Status != 403 ||
		!strings.Contains(a.Reason, robot+" needs the role publisher on "+releases+
			" for pkg:maven/org.elsewhere/soup to publish") ||
		!strings.Contains(a.Reason, "admin can grant it") {
		t.Errorf("published what is for others: %d %s", a.Status, a.Reason)
	}
	admin(0, "team", "edit", team, "--leave", robot)
	if a := put("example.skerry.berth"); a.Status != 404 {
		t.Errorf("published after leaving the team: %d %s", a.Status, a.Reason)
	}

	// What an admin of one repository may do ends there.
	admin(0, "grant", "add", "admin", "--to", cook, "--on", other)
	cooks, _ := admin(0, "token", "new", "--for", cook)
	cooks = strings.TrimSpace(cooks)
	run(0, cooks, "grant", "add", "reader", "--to", robot, "--on", other)
	_, errs = run(4, cooks, "grant", "add", "reader", "--to", robot, "--on", releases)
	says(t, errs, cook+" needs the role admin on "+releases, cook+" is admin on "+other)
	_, errs = run(4, cooks, "grant", "add", "reader", "--to", robot, "--on", "*")
	says(t, errs, "needs the role admin")
	_, errs = run(4, cooks, "user", "add", "stowaway")
	says(t, errs, "needs the role admin on all repositories")
	out, _ = run(0, cooks, "grant", "list")
	if strings.Contains(out, releases) || !strings.Contains(out, other) {
		t.Errorf("an admin of %s sees\n%s", other, out)
	}
	out, _ = run(0, cooks, "--output", "json", "grant", "list", "--to", robot)
	var list struct{ Items []api.Grant }
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list.Items) != 1 {
		t.Fatalf("%s: %v", out, err)
	}
	grants := list.Items
	run(0, cooks, "grant", "remove", fmt.Sprint(grants[0].ID))
	run(3, cooks, "grant", "remove", "1") // the admin's own; nobody's business
	eventually(t, 10*time.Second, "what was refused is on record", func() bool {
		out, _ = run(0, cooks, "events")
		return strings.Contains(out, "refused")
	})
	says(t, out, "grant given")
	_, errs = run(4, cooks, "events", "--who", "admin")
	says(t, errs, "needs the role admin")

	// Blocked, nothing gets in; removed, nothing is left.
	admin(0, "user", "block", cook)
	_, errs = run(4, cooks, "whoami")
	says(t, errs, cook+" was blocked on")
	_, errs, code := crelvo(t, home, strings.TrimSpace(password)+"\n", "login", "--name", cook)
	if code != 4 {
		t.Errorf("a blocked user signed in: %d", code)
	}
	says(t, errs, "was blocked")
	admin(0, "user", "unblock", cook)
	run(0, cooks, "whoami")
	out, _ = admin(0, "user", "sign-out", cook, "--tokens", "--yes")
	says(t, out, "1 tokens")
	_, errs = run(4, cooks, "whoami")
	says(t, errs, "was revoked on")
	admin(0, "user", "remove", cook, "--yes")
	admin(0, "team", "remove", team, "--yes")
	out, _ = admin(0, "user", "list")
	if strings.Contains(out, cook) {
		t.Errorf("%s is still there:\n%s", cook, out)
	}
	for want, args := range map[string][]string{
		"grant given":    {"events", "--since", "1h", "--about", "team:" + team},
		"user blocked":   {"events", "--what", "user blocked", "--about", cook},
		"grants before:": {"events", "--what", "user removed", "--about", cook},
	} {
		out, _ = admin(0, args...)
		says(t, out, want, "127.0.0.1")
	}
	out, _ = admin(0, "events", "verify")
	says(t, out, "are as they were written")
	noted := strings.TrimSpace(out[strings.LastIndex(out, " ")+1:])
	admin(0, "events", "verify", "--noted", noted)
	_, errs = admin(1, "events", "verify", "--noted", noted[:len(noted)-4]+"0000")
	says(t, errs, "another seal than the one that was noted")
}

// TestSessionsAndPasswords: changing a password ends the other sessions, an admin
// ends all, and who tries passwords is slowed down.
func TestSessionsAndPasswords(t *testing.T) {
	name := fmt.Sprintf("stoker-%d", made.Add(1))
	var user api.MadeUser
	if a, err := shared.JSON(t.Context(), http.MethodPost, "/api/v1/users", api.NewUser{Name: name}, &user); err != nil ||
		a.Status != 200 {
		t.Fatal(a.Status, err)
	}
	signIn := func(password string) (cookie string, a house.Answer) {
		t.Helper()
		body := fmt.Sprintf(`{"name":%q,"password":%q}`, name, password)
		a, err := shared.Ask(t.Context(), http.MethodPost, "/api/v1/session", "", strings.NewReader(body), "Content-Type",
			"application/json")
		if err != nil {
			t.Fatal(err)
		}
		cookie, _, _ = strings.Cut(a.Header.Get("Set-Cookie"), ";")
		return cookie, a
	}
	with := func(cookie, method, path, body string) house.Answer {
		t.Helper()
		a, err := shared.Ask(t.Context(), method, path, "", strings.NewReader(body), "Cookie", cookie, "Content-Type",
			"application/json")
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	first, a := signIn(user.Password)
	if !strings.Contains(string(a.Body), `"changePassword":true`) {
		t.Errorf("the first sign-in: %s", a.Body)
	}
	second, _ := signIn(user.Password)
	if a := with(first, http.MethodPut, "/api/v1/me/password",
		`{"old":"not it, surely","new":"coal-and-more-coal"}`); a.Status != 403 {
		t.Errorf("changed without the old one: %d %s", a.Status, a.Body)
	}
	if a := with(first, http.MethodPut, "/api/v1/me/password",
		fmt.Sprintf(`{"old":%q,"new":"short"}`, user.Password)); a.Status != 400 ||
		!strings.Contains(string(a.Body), "at least 10 characters") {
		t.Errorf("a short one: %d %s", a.Status, a.Body)
	}
	if a := with(first, http.MethodPut, "/api/v1/me/password",
		fmt.Sprintf(`{"old":%q,"new":"coal-and-more-coal"}`, user.Password)); a.Status != 204 {
		t.Fatalf("changed: %d %s", a.Status, a.Body)
	}
	if a := with(first, http.MethodGet, "/api/v1/tokens", ""); a.Status != 200 {
		t.Errorf("the session that changed it: %d", a.Status)
	}
	if a := with(second, http.MethodGet, "/api/v1/tokens", ""); a.Status != 401 {
		t.Errorf("the other session: %d", a.Status)
	}
	if _, a := signIn(user.Password); a.Status != 401 {
		t.Errorf("the old password: %d", a.Status)
	}
	if _, a := signIn("coal-and-more-coal"); a.Status != 200 || strings.Contains(string(a.Body), `"changePassword":true`) {
		t.Errorf("the new password: %d %s", a.Status, a.Body)
	}
	must(t, http.MethodPost, "/api/v1/sign-out?for="+name, "", 200)
	if a := with(first, http.MethodGet, "/api/v1/tokens", ""); a.Status != 401 {
		t.Errorf("a session that an admin ended: %d", a.Status)
	}
	// Others cannot end it, nor give a password.
	third, _ := signIn("coal-and-more-coal")
	for path, body := range map[string]string{"/api/v1/sign-out?for=admin": "", "/api/v1/users/admin/password": ""} {
		if a := with(third, http.MethodPost, path, body); a.Status != 403 {
			t.Errorf("%s as %s: %d", path, name, a.Status)
		}
	}

	// Five may be wrong; then it takes ever longer, for the right one too.
	slowed := 0
	for range 8 {
		if _, a := signIn("wrong"); a.Status == 429 {
			slowed++
			if a.Header.Get("Retry-After") == "" || !strings.Contains(string(a.Body), "too many wrong passwords; try again in") {
				t.Errorf("%s %s", a.Header, a.Body)
			}
		}
	}
	if slowed < 2 {
		t.Errorf("8 wrong passwords in a row were slowed down %d times", slowed)
	}
	// Tokens are not held up, and neither are others.
	if a := ask(t, http.MethodGet, "/api/v1/me", ""); a.Status != 200 {
		t.Errorf("a token meanwhile: %d", a.Status)
	}
	eventually(t, 40*time.Second, "the right password is taken again", func() bool {
		_, a := signIn("coal-and-more-coal")
		return a.Status == 200
	})
	var events []api.Event
	eventually(t, 10*time.Second, "the attempts are on record", func() bool {
		if _, err := shared.JSON(t.Context(), http.MethodGet, "/api/v1/events?action=refused&who="+name, nil,
			&events); err != nil {
			t.Fatal(err)
		}
		return slices.ContainsFunc(events, func(e api.Event) bool { return e.Detail["code"] == "wrong-password" })
	})
}

// TestTokenWarns: clients that can show it are told that their token ends soon.
func TestTokenWarns(t *testing.T) {
	r := repository(t, "releases")
	newToken := func(seconds int64) string {
		t.Helper()
		var n api.MadeToken
		if a, err := shared.JSON(t.Context(), http.MethodPost, "/api/v1/tokens",
			api.NewToken{Name: fmt.Sprint("warned-", made.Add(1)), Seconds: seconds}, &n); err != nil || a.Status != 200 {
			t.Fatalf("%d %s %v", a.Status, a.Body, err)
		}
		return n.Secret
	}
	notice := func(secret string) string {
		t.Helper()
		a, err := shared.Ask(t.Context(), http.MethodGet, "/at/"+r+"/npm/-/ping", secret, nil)
		if err != nil || a.Status != 200 || (a.Header.Get("Npm-Notice") != "") != (a.Header.Get(api.TokenEndsHeader) != "") {
			t.Fatalf("%d %v %v", a.Status, a.Header, err)
		}
		return a.Header.Get("Npm-Notice")
	}
	for _, seconds := range []int64{20, 30 * 24 * 3600} {
		if said := notice(newToken(seconds)); said != "" {
			t.Errorf("a token for %d seconds, just made: %q", seconds, said)
		}
	}
	short := newToken(20)
	eventually(t, 25*time.Second, "in its last tenth, it is said", func() bool {
		said := notice(short)
		return strings.Contains(said, "ends on") && strings.Contains(said, "crelvo token new")
	})
	if a := ask(t, http.MethodPost, "/api/v1/tokens", `{"name":"for-ever","seconds":400000000}`, "Content-Type",
		"application/json"); a.Status != 400 || !strings.Contains(string(a.Body), "at most 366 days on this server") {
		t.Errorf("a token for ever: %d %s", a.Status, a.Body)
	}
}
