package kinds

import "testing"

func TestClientName(t *testing.T) {
	for agent, want := range map[string]string{"Apache-Maven/3.8.7 (Java 17; Linux)": "maven",
		"npm/11.0 node/v22 linux x64": "npm", "pip/25.0 {\"ci\":null}": "pip", "NuGet xplat/6.1": "nuget",
		"Gradle/8.1": "gradle", "yarn/4.0 npm/? node/v22": "yarn", "Mozilla/5.0 (X11)": "browser", "curl/8.0": "curl",
		"": "other", "n": "other", "something/1": "other"} {
		if got := ClientName(agent); got != want {
			t.Errorf("%q is called %q, not %q", agent, got, want)
		}
	}
}
