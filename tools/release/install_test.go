package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// guide is docs/install.md: the commands of each section, in their order.
func guide(t *testing.T) map[string][]string {
	text, err := os.ReadFile("../../docs/install.md")
	require.NoError(t, err)
	out := map[string][]string{}
	for _, section := range strings.Split(string(text), "\n## ")[1:] {
		title, rest, _ := strings.Cut(section, "\n")
		for i, part := range strings.Split(rest, "```") {
			if block, ok := strings.CutPrefix(part, "\n"); i%2 == 1 && ok {
				out[title] = append(out[title], strings.Split(strings.TrimSpace(block), "\n")...)
			}
		}
	}
	return out
}

// older makes a clone whose version is the one before, and the commit says so.
func older(t *testing.T) string {
	dir := filepath.Join(t.TempDir(), "older")
	run := func(name string, args ...string) {
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
	}
	run("git", "clone", "-q", "../..", dir)
	run("sed", "-i", `s/^const Version = ".*"/const Version = "0.1.99"/`, filepath.Join(dir, "internal/cli/version.go"))
	run("sed", "-i", `0,/^## [0-9].*/s//## 0.1.99 - 2026-04-03/`, filepath.Join(dir, "CHANGELOG.md"))
	run("git", "-C", dir, "-c", "user.name=test", "-c", "user.email=test@tern.example", "commit", "-qam", "an older version")
	run("git", "-C", dir, "tag", "v0.1.99")
	return dir
}

// releaseOf makes the release of a checkout for linux/amd64, and returns its folder.
func releaseOf(t *testing.T, root string) string {
	dir := filepath.Join(t.TempDir(), "release")
	require.NoError(t, run(t.Context(), root, dir, "linux/amd64", testWriter{t}, testWriter{t}))
	return dir
}

// testWriter writes to the log of a test.
type testWriter struct{ t *testing.T }

func (w testWriter) Write(p []byte) (int, error) {
	w.t.Log(strings.TrimSpace(string(p)))
	return len(p), nil
}

var sudo = regexp.MustCompile(`\bsudo `)

// TestAMachineIsInstalledAndUpgraded runs docs/install.md: on a machine of its own, with
// systemd, while clients send requests.
func TestAMachineIsInstalledAndUpgraded(t *testing.T) {
	if os.Getenv("KESTRIX_LONG") == "" {
		t.Skip("it installs a machine; .ci/long runs it")
	}
	oldRelease, newRelease := releaseOf(t, older(t)), releaseOf(t, "../..")
	m := newMachine(t)
	put := func(release string) (version string) {
		m.here("sh", "-c", "cd "+m.root+desk+" && rm -f *kestrix* && cp "+release+"/* .")
		debs, err := filepath.Glob(filepath.Join(release, "*.deb"))
		require.NoError(t, err)
		require.Len(t, debs, 1)
		return strings.Split(filepath.Base(debs[0]), "_")[1]
	}
	commands := guide(t)
	do := func(section string, known ...string) {
		lines := commands[section]
		require.NotEmpty(t, lines, "docs/install.md has no commands in %q", section)
		delete(commands, section)
		for _, line := range lines {
			wants := 0
			if one, ok := strings.CutSuffix(line, " # exit code 1"); ok {
				line, wants = one, 1
			}
			line = sudo.ReplaceAllString(line, "")
			line = strings.NewReplacer(known...).Replace(line)
			out, code := m.try(line)
			require.Equal(t, wants, code, "%s: %s\n%s", line, out, m.journal())
		}
	}
	version := func() string {
		var s struct{ Version, Commit string }
		require.NoError(t, json.Unmarshal([]byte(m.run("kestrix status -format json")), &s))
		return s.Version + " " + s.Commit
	}

	v := put(oldRelease)
	do("From a package", "VERSION", v)
	assert.Equal(t, "alive\n", m.run("curl -s http://127.0.0.1:9910/alive"))
	assert.Contains(t, m.run("curl -si http://127.0.0.1:9910/"), " 404 ")
	assert.Contains(t, m.run("stat -c '%a %U %G' /etc/kestrix"), "750 root kestrix")
	assert.Equal(t, m.run("cat /usr/share/kestrix/site.hcl"), m.run("cat /etc/kestrix/site.hcl"))
	m.run("systemd-analyze --man=no verify kestrix.service kestrix.socket")
	m.run("systemd-analyze security --threshold=20 kestrix.service")

	m.run("logrotate -f /etc/logrotate.d/kestrix")
	m.run("curl -s http://127.0.0.1:9910/after")
	m.run("for i in $(seq 50); do grep -q /after /var/log/kestrix/access.log && exit; sleep .1; done; exit 1")
	m.run("grep -q /alive /var/log/kestrix/access.log.1")

	m.role("backend", "192.0.2.11:8080", "192.0.2.12:8080")
	do("Write the configuration")
	m.under("reloads", func() {
		do("Change the configuration")
		// A refused file, reported where the reload was asked for; what is in force goes on.
		m.run("cp /etc/kestrix/site.hcl good.hcl && echo 'telemetry = 1' >> /etc/kestrix/site.hcl")
		_, code := m.try("systemctl reload kestrix")
		assert.NotZero(t, code)
		assert.Contains(t, m.journal(), `there is no key "telemetry"`)
		out, code := m.try("kestrix tell -reload")
		assert.Equal(t, 3, code)
		assert.Contains(t, out, "is not used; the configuration in force stays")
		assert.Contains(t, m.run("kestrix status"), "warning: configuration: the newest reload")
		m.run("cp good.hcl /etc/kestrix/site.hcl && systemctl reload kestrix")
	})

	// A restart with such a file leaves nobody, as the page says.
	m.run("echo 'telemetry = 1' >> /etc/kestrix/site.hcl")
	_, code := m.try("systemctl restart kestrix")
	assert.NotZero(t, code)
	_, code = m.try("for i in $(seq 100); do systemctl is-failed -q kestrix && exit; sleep .2; done; exit 1")
	assert.Zero(t, code, "it goes on attempting: %s", m.journal())
	assert.Contains(t, m.journal(), "Start request repeated too quickly")
	m.run("cp good.hcl /etc/kestrix/site.hcl && systemctl reset-failed kestrix && systemctl start kestrix")

	do("Keep sockets open")
	m.run("kestrix tell app1 drain")
	m.under("a restart", func() { m.run("systemctl restart kestrix") })
	before := version()
	m.under("an upgrade", func() {
		v = put(newRelease)
		do("Upgrade", "kestrix-VERSION", "kestrix-"+strings.ReplaceAll(v, "~", "-"), "VERSION", v)
	})
	assert.NotEqual(t, before, version())
	assert.Contains(t, m.run("kestrix status"), "draining", "the order of the operator")
	assert.Equal(t, m.run("cat good.hcl"), m.run("cat /etc/kestrix/site.hcl"))

	// A package whose program refuses the configuration does not restart what runs.
	m.run("echo 'telemetry = 1' >> /etc/kestrix/site.hcl")
	m.under("a refused upgrade", func() {
		pid := m.run("systemctl show -p MainPID kestrix")
		assert.Contains(t, m.run("apt-get install --reinstall ./kestrix_*.deb"), "the version before goes on running")
		assert.Equal(t, pid, m.run("systemctl show -p MainPID kestrix"))
	})
	m.run("cp good.hcl /etc/kestrix/site.hcl")
	m.under("a rollback", func() {
		v = put(oldRelease)
		do("Roll back", "BEFORE", v)
	})
	assert.Equal(t, before, version())

	do("Remove")
	_, code = m.try("ls /etc/kestrix/site.hcl /var/lib/kestrix /usr/bin/kestrix /usr/lib/systemd/system/kestrix.service 2>/dev/null")
	assert.NotZero(t, code)

	// A package that comes to a configuration leaves it alone.
	m.run("mkdir -p /etc/kestrix && cp good.hcl /etc/kestrix/harbour.hcl && apt-get install ./kestrix_*.deb")
	assert.Equal(t, "/etc/kestrix/harbour.hcl\n", m.run("ls /etc/kestrix/*"))
	m.run("apt-get purge -y kestrix && rm -r /etc/kestrix")

	program := filepath.Join(t.TempDir(), "kestrix")
	source := commands["From source"]
	require.Contains(t, source[0], "go build", "it is built here, and the rest is for the machine")
	c := exec.Command("sh", "-c", strings.Replace(source[0], "-o kestrix", "-o "+program, 1))
	c.Dir = "../.."
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	m.here("cp", program, filepath.Join(m.root, desk, "kestrix"))
	commands["From source"] = source[1:]
	do("From source")
	for _, line := range commands["In an image"] {
		assert.Regexp(t, "^podman ", line, "no engine of images runs here")
	}
	delete(commands, "In an image")
	assert.Empty(t, commands, "sections of docs/install.md that nobody ran")
}

// TestTheRPMHasWhatTheDebHas reads it back by the query of rpm itself.
func TestTheRPMHasWhatTheDebHas(t *testing.T) {
	if os.Getenv("KESTRIX_LONG") == "" {
		t.Skip("it builds packages; .ci/long runs it")
	}
	dir, again := releaseOf(t, "../.."), releaseOf(t, "../..")
	one, err := os.ReadFile(filepath.Join(dir, "SHA256SUMS"))
	require.NoError(t, err)
	two, err := os.ReadFile(filepath.Join(again, "SHA256SUMS"))
	require.NoError(t, err)
	assert.Equal(t, string(one), string(two), "two builds give the same bytes")
	files := func(script string) []string {
		c := exec.Command("sh", "-c", script)
		c.Dir = dir
		out, err := c.Output()
		require.NoError(t, err)
		text := strings.ReplaceAll(string(out), "zsh/vendor-completions", "zsh/site-functions")
		return strings.Fields(text)
	}
	deb := files(`dpkg-deb -c *.deb | awk '$1 !~ /^d/ { sub("^[.]", "", $6); print $6 }' | LC_ALL=C sort`)
	rpm := files(`rpm -qpl *.rpm | LC_ALL=C sort`)
	assert.ElementsMatch(t, deb, rpm)
	assert.Equal(t, files(`rpm -qpc *.rpm`), files(`dpkg-deb -I *.deb conffiles`))
	assert.Contains(t, files(`rpm -qp --scripts *.rpm`), "systemd-sysusers")
	assert.Contains(t, files(`rpm -qp --queryformat '%{LICENSE}' *.rpm`), "Apache-2.0")
	var sbom struct {
		BOMFormat  string
		Components []struct{ Name, Version string }
	}
	text, err := os.ReadFile(filepath.Join(dir, files(`ls *.cdx.json`)[0]))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &sbom))
	assert.Equal(t, "CycloneDX", sbom.BOMFormat)
	assert.Greater(t, len(sbom.Components), 30)
}
