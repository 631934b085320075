package metrics

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAlertsNameMetricsThatThereAre holds docs/alerts.rules.yml to the metrics and their
// labels, and its tests and docs/metrics.md to its alerts. promtool runs the tests in .ci/long.
func TestAlertsNameMetricsThatThereAre(t *testing.T) {
	read := func(name string) string {
		text, err := os.ReadFile("../../../docs/" + name)
		require.NoError(t, err)
		return string(text)
	}
	rules, tests, docs := read("alerts.rules.yml"), read("alerts.test.yml"), read("metrics.md")
	metrics := map[string]string{}
	descs := make(chan *prometheus.Desc, 100)
	(&collector{}).Describe(descs)
	close(descs)
	for d := range descs {
		parts := regexp.MustCompile(`fqName: "([a-z_]+)".*variableLabels: \{([a-z_,]*)\}`).FindStringSubmatch(d.String())
		require.Len(t, parts, 3, d.String())
		metrics[parts[1]] = parts[2]
		assert.Contains(t, docs, "`"+parts[1]+"`", "docs/metrics.md")
	}
	for _, name := range regexp.MustCompile(`kestrix_[a-z_]+`).FindAllString(rules+tests, -1) {
		base := strings.TrimSuffix(strings.TrimSuffix(name, "_bucket"), "_count")
		assert.Contains(t, metrics, base, "alerts.rules.yml or alerts.test.yml")
	}
	for _, series := range regexp.MustCompile(`series: '(kestrix_[a-z_]+)\{(.*)\}'`).FindAllStringSubmatch(tests, -1) {
		has := metrics[strings.TrimSuffix(strings.TrimSuffix(series[1], "_bucket"), "_count")] + ",instance,job,le,"
		for _, l := range strings.Split(series[2], ",") {
			label, _, _ := strings.Cut(l, "=")
			assert.Contains(t, ","+has, ","+label+",", "%s of %s", label, series[1])
		}
	}
	alerts := regexp.MustCompile(`- alert: (\w+)`).FindAllStringSubmatch(rules, -1)
	require.Greater(t, len(alerts), 14)
	for _, a := range alerts {
		fires := strings.Count(tests, "alertname=\""+a[1]+"\",alertstate=\"firing\",")
		assert.Positive(t, fires, "%s fires in a case", a[1])
		assert.Greater(t, strings.Count(tests, "alertname=\""+a[1]+"\""), 2*fires, "%s is silent in another", a[1])
		assert.Contains(t, docs, "`"+a[1]+"`", "docs/metrics.md")
	}
}
