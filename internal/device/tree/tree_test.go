package tree

import (
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var harbour = Schema{
	Modules: map[string]string{"ietf-system": "urn:ietf:params:xml:ns:yang:ietf-system", "harbour": "https://harbour.example/yang", "iana-if-type": "urn:ietf:params:xml:ns:yang:iana-if-type"},
	Lists:   map[string][]string{"/harbour:quays/quay": {"name"}, "/harbour:quays/lamp": {"row", "place"}, "/harbour:quays/word": {"."}, "/ietf-system:system/search": {"."}},
}

// element reads what stands in one element.
func element(t require.TestingT, text string) *Node {
	d := xml.NewDecoder(strings.NewReader("<data>" + text + "</data>"))
	_, err := d.Token()
	require.NoError(t, err)
	n, err := FromXML(d, harbour)
	require.NoError(t, err)
	return n
}

func TestATreeIsWrittenAsLines(t *testing.T) {
	n := element(t, `
<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>qs1</hostname><search>a.example</search><search>b.example</search><radius/></system>
<quays xmlns="https://harbour.example/yang" xmlns:ianaift="urn:ietf:params:xml:ns:yang:iana-if-type">
  <quay><name>it's</name><kind>ianaift:ferry</kind><depth> 4 m</depth></quay>
  <quay><name>west</name></quay>
  <lamp><row>1</row><place>2</place><lit>true</lit></lamp>
  <word>x y</word>
  <berth xmlns="urn:example:unknown"><n>7</n></berth>
</quays>`)
	text, err := n.Text(harbour)
	require.NoError(t, err)
	assert.Equal(t, `/ietf-system:system/hostname = qs1
/ietf-system:system/search[.='a.example']
/ietf-system:system/search[.='b.example']
/ietf-system:system/radius
/harbour:quays/quay[name="it's"]
/harbour:quays/quay[name="it's"]/kind = iana-if-type:ferry
/harbour:quays/quay[name="it's"]/depth = " 4 m"
/harbour:quays/quay[name='west']
/harbour:quays/lamp[row='1'][place='2']
/harbour:quays/lamp[row='1'][place='2']/lit = true
/harbour:quays/word[.='x y']
/harbour:quays/{urn:example:unknown}:berth/n = 7
`, text)
	back, err := Parse(text, harbour)
	require.NoError(t, err)
	again, err := element(t, back.XML(harbour, nil, "")).Text(harbour)
	require.NoError(t, err)
	assert.Equal(t, text, again, "what is written as XML is the same tree")
}

func TestAListWhoseKeysNobodyKnows(t *testing.T) {
	_, err := element(t, `<tides xmlns="https://harbour.example/yang"><tide>1</tide><tide>2</tide></tides>`).Text(harbour)
	assert.ErrorContains(t, err, `it has a list /harbour:tides/tide, and its profile does not say by which keys`)
	_, err = element(t, `<quays xmlns="https://harbour.example/yang"><quay><depth>1</depth></quay></quays>`).Text(harbour)
	assert.ErrorContains(t, err, "an entry of the list /harbour:quays/quay has no key name")
}

func TestLinesThatAreNone(t *testing.T) {
	for line, want := range map[string]string{
		"interface 3":                               "is no change; write set PATH = VALUE or delete PATH",
		"set hostname = x":                          `"hostname = x" is no path`,
		"set /hostname = x":                         "without its module; write /MODULE:hostname",
		"set /harbour:quays/quay = x":               "its entry is not named; write its keys, in this order: [name='…']",
		"set /harbour:quays/lamp[place='1']":        "in this order: [row='…'][place='…']",
		"set /harbour:quays/boat[name='1']":         "the profile knows no list /harbour:quays/boat",
		"set /sea:quays/depth = 1":                  "the profile knows no module sea",
		"set /harbour:quays/quay[name=west] = 1":    "stands between no quotes; write [name='VALUE']",
		"set /harbour:quays/quay[name='west = 1":    "the value of key name is not closed",
		"set /harbour:quays/quay[name='a'":          "key name is not closed by ]",
		"set /harbour:quays/depth is 4":             `behind the path stands " is 4"; write PATH = VALUE`,
		`set /harbour:quays/depth = "4`:             "begins with a quote and is no quoted text",
		"delete /harbour:quays/depth = 4":           "what is deleted has no value",
		"set /harbour:quays//depth = 4":             "a name is missing",
		"set /harbour:a" + strings.Repeat("/a", 70): "more than 64 names long",
	} {
		c, err := ParseChange(line)
		if err == nil {
			err = c.Path.Check(harbour)
		}
		assert.ErrorContains(t, err, want, line)
	}
}

// values are texts that a leaf or a key may hold.
var values = rapid.OneOf(rapid.StringMatching(`[a-z0-9 '"\]\[=/\\.:-]{0,12}`), rapid.Just("\n\t"), rapid.Just("ianaift:ferry"), rapid.Just(" x "))

// drawn is a tree as it may be read.
func drawn(t *rapid.T) *Node {
	root := &Node{}
	leaf := func(in *Node, name string) {
		in.Children = append(in.Children, &Node{Module: in.Module, Name: name, Value: values.Draw(t, name)})
	}
	quays := &Node{Module: "harbour", Name: "quays"}
	for i := range rapid.IntRange(0, 3).Draw(t, "quays") {
		q := &Node{Module: "harbour", Name: "quay", Children: []*Node{{Module: "harbour", Name: "name", Value: values.Draw(t, "key") + string(rune('a'+i))}}}
		if rapid.Bool().Draw(t, "depth?") {
			leaf(q, "depth")
		}
		quays.Children = append(quays.Children, q)
	}
	if rapid.Bool().Draw(t, "tide?") {
		leaf(quays, "tide")
	}
	quays.Children = append(quays.Children, &Node{Module: "ietf-system", Name: "watch", Children: []*Node{{Module: "ietf-system", Name: "by", Value: "crew"}}})
	root.Children = append(root.Children, quays)
	return root
}

// What is written as lines is read back as the same tree, and as XML, too.
func TestLinesAndTreesAreTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text, err := drawn(t).Text(harbour)
		require.NoError(t, err)
		back, err := Parse(text, harbour)
		require.NoError(t, err, text)
		again, err := back.Text(harbour)
		require.NoError(t, err)
		assert.Equal(t, text, again)
		for line := range strings.Lines(text) {
			c, err := ParseChange("set " + strings.TrimSuffix(line, "\n"))
			require.NoError(t, err, line)
			assert.Equal(t, "set "+strings.TrimSuffix(line, "\n"), c.String())
			require.NoError(t, c.Path.Check(harbour))
			assert.NotEmpty(t, c.Path.Find(back), line)
		}
	})
}

// Any text is read, or said to be none, and what is read is written as it was meant.
func FuzzParse(f *testing.F) {
	f.Add("/harbour:quays/quay[name='a']/depth = 4\n/harbour:quays/word[.=\"x\"]\n")
	f.Add("/a:b/{urn:x}:c = \"\\n\"")
	f.Fuzz(func(t *testing.T, text string) {
		n, err := Parse(text, harbour)
		if err != nil {
			return
		}
		lines, err := n.Text(harbour)
		if err != nil {
			return
		}
		back, err := Parse(lines, harbour)
		require.NoError(t, err, "%q of %q", lines, text)
		again, err := back.Text(harbour)
		require.NoError(t, err)
		assert.Equal(t, lines, again)
	})
}

// Any XML is read, or said to be none; what is read can be written and read again.
func FuzzXML(f *testing.F) {
	f.Add(`<quays xmlns="https://harbour.example/yang"><quay><name>a</name></quay></quays>`)
	f.Add(`<a xmlns:b="urn:x"><b:c>d:e</b:c></a>`)
	f.Fuzz(func(t *testing.T, text string) {
		d := xml.NewDecoder(strings.NewReader("<data>" + text + "</data>"))
		if _, err := d.Token(); err != nil {
			return
		}
		n, err := FromXML(d, harbour)
		if err != nil {
			return
		}
		if text, err := n.Text(harbour); err == nil {
			_, _ = Parse(text, harbour)
		}
		_ = n.XML(harbour, nil, "")
	})
}

func TestJSON(t *testing.T) {
	const text = `{"ietf-system:system":{"hostname":"qs1","search":["a.example","b.example"],"radius":{},"lit":true,"depth":-4.5,"there":[null],"quiet":""},"harbour:quays":{"quay":[{"name":"a","ietf-system:note":"x"},{"name":"b"}]}}`
	n, err := FromJSON([]byte(text))
	require.NoError(t, err)
	lines, err := n.Text(harbour)
	require.NoError(t, err)
	assert.Equal(t, `/ietf-system:system/hostname = qs1
/ietf-system:system/search[.='a.example']
/ietf-system:system/search[.='b.example']
/ietf-system:system/radius
/ietf-system:system/lit = true
/ietf-system:system/depth = -4.5
/ietf-system:system/there
/ietf-system:system/quiet = ""
/harbour:quays/quay[name='a']
/harbour:quays/quay[name='a']/ietf-system:note = x
/harbour:quays/quay[name='b']
`, lines)
	assert.JSONEq(t, text, string(n.JSON(harbour, nil)))
	back, err := Parse(lines, harbour)
	require.NoError(t, err)
	kinds := Kinds{}
	kinds.Learn(n)
	assert.JSONEq(t, text, string(back.JSON(harbour, kinds)), "what is written as lines is the same JSON, once the kinds of its leaves are known")
	for bad, want := range map[string]string{
		``: "EOF", `[]`: "it is no object", `{"a":1}`: "no name of a module", `{"a:b":[[1]]}`: "an array in an array", `{"a:b":null}`: "is no value",
		`{"a:b":1}{}`: "something stands behind it", `{"a:b":{`: "EOF", `{"a:b c":1}`: "no name of a module",
		`{"a:b":` + strings.Repeat(`{"c":`, 70) + "1" + strings.Repeat("}", 71): "more than 64 levels deep",
	} {
		_, err := FromJSON([]byte(bad))
		assert.ErrorContains(t, err, want, bad)
	}
}

// Any JSON is read, or said to be none; what is read can be written as JSON.
func FuzzJSON(f *testing.F) {
	f.Add([]byte(`{"a:b":{"c":[1,"x",true],"d":[null]}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		n, err := FromJSON(text)
		if err != nil {
			return
		}
		out := n.JSON(harbour, nil)
		if _, err := FromJSON(out); err != nil {
			t.Fatalf("%q of %q: %v", out, text, err)
		}
	})
}
