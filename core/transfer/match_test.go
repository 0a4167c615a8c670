package transfer

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/vault"
)

func titles(list []vault.Entry) (out []string) {
	for _, e := range list {
		if e.IsItem() {
			it := vault.View(e)
			out = append(out, it.Title+" "+strings.Join(it.Aliases, "+"))
		}
	}
	return out
}

// TestSystemsOfAnEmployer: one domain and user name, but systems of their own.
func TestSystemsOfAnEmployer(t *testing.T) {
	src := read(t, "work.csv", "name,url,username,password\n"+
		"Payroll,https://pay.halyard.example/,maren,p1\n"+
		"Works mail,https://mail.halyard.example/,maren,p2\n"+
		"Holidays,https://leave.halyard.example/,maren,p3\n"+
		"Payroll new,https://pay.halyard.example/in,maren,p4\n"+ // the same host
		"Webmail,https://webmail.halyard.example/,maren,p2\n") // the same password
	list := bring(t, nil, now, src)
	assert.ElementsMatch(t, []string{"Payroll Payroll new", "Holidays ", "Webmail Works mail"}, titles(list))
	again := newPlan(list, []Source{src}, Options{By: later})
	assert.Equal(t, 5, again.Count(GroupKnown).Rows, "%+v", again.Steps)
	// Row by row it comes to the same.
	for i := range src.Rows {
		one := src
		one.Rows = src.Rows[i : i+1]
		list = bring(t, list, later, one)
	}
	assert.Len(t, titles(list), 3)
}

// TestTheBetterTitleStays, and the other one is an alias.
func TestTheBetterTitleStays(t *testing.T) {
	for _, files := range [][]string{{"xn--bcher-kva.example", "Bücher"}, {"Bücher", "xn--bcher-kva.example"}} {
		var list []vault.Entry
		for i, title := range files {
			src := read(t, fmt.Sprint(i), "name,url,username,password\n"+title+" ,https://xn--bcher-kva.example/,m,p\n")
			list = bring(t, list, now, src)
		}
		assert.Contains(t, titles(list)[0], "Bücher")
	}
	src := read(t, "a", "name,url,username,password\nMy gull,https://gull.example/,m,p\nThe bank,https://gull.example/,m,p\n")
	assert.Equal(t, []string{"My gull The bank"}, titles(bring(t, nil, now, src)))
}

// TestARowWithoutAnyNameCanBeFound: it is called by what it has.
func TestARowWithoutAnyNameCanBeFound(t *testing.T) {
	src := read(t, "a", "name,url,username,password\n,,maren,p\n,,,q\n")
	assert.ElementsMatch(t, []string{"maren ", "Line 3 "}, titles(bring(t, nil, now, src)))
	assert.Equal(t, []Remark{{What: RemarkUntitled}}, src.Rows[0].Remarks)
}

// TestALoginWithThousandsOfPasswords takes no longer than its rows are many.
func TestALoginWithThousandsOfPasswords(t *testing.T) {
	var b strings.Builder
	b.WriteString("name,url,username,password\n")
	const n = 4000
	for i := range n {
		fmt.Fprintf(&b, "Gull,https://gull.example/,maren,pw%d\n", i)
	}
	src := read(t, "many.csv", b.String())
	began := time.Now()
	list := bring(t, nil, now, src)
	require.Less(t, time.Since(began), 5*time.Second)
	assert.Len(t, list[0].Past, n-1)
	again := newPlan(list, []Source{src}, Options{By: later})
	assert.Equal(t, n, again.Count(GroupKnown).Rows)
	t.Log(time.Since(began))
}
