package cli_test

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"pingo/internal/api"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/pgtest"
)

// browser starts a headless Chromium that reaches nothing but this machine.
func browser(t *testing.T, more ...chromedp.ExecAllocatorOption) context.Context {
	t.Helper()
	options := append(
		slices.Concat(chromedp.DefaultExecAllocatorOptions[:], more),
		chromedp.NoSandbox,
		chromedp.WindowSize(1280, 800),
		chromedp.Flag(
			"disable-background-networking",
			true,
		),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-quic", true),
	)
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, cancel := chromedp.NewContext(allocator)
	ctx, timeout := context.WithTimeout(ctx, 90*time.Second)
	t.Cleanup(func() { timeout(); cancel(); stop() })
	return ctx
}

func TestConsole(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 400, 4); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET retired_at = NULL WHERE id = 42")
	w.serve()
	ctx := browser(t)
	do := func(what string, actions ...chromedp.Action) {
		t.Helper()
		if err := chromedp.Run(ctx, actions...); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	// A page that is just being left has no text; the waiter looks again.
	page := func() (text string) {
		if err := chromedp.Run(ctx, chromedp.Evaluate(`document.body ? document.body.innerText : ""`, &text)); err != nil {
			return "no page: " + err.Error()
		}
		return text
	}
	shows := func(what string, words ...string) {
		t.Helper()
		w.eventually(10*time.Second, what, func() error {
			text := page()
			for _, word := range words {
				if !strings.Contains(text, word) {
					return fmt.Errorf("no %q in %q", word, text)
				}
			}
			return nil
		})
	}
	url := w.client.URL
	do("opening", chromedp.Navigate(url))
	shows("the way in", "Sign in to Pingo")
	do("a wrong token", chromedp.SendKeys("input", "nonsense\r", chromedp.ByQuery))
	shows("why not", "this token is not known")
	// The link that carries a token, as the demo prints it.
	do("the link", chromedp.Navigate("about:blank"), chromedp.Navigate(url+"/#token="+w.client.Token))
	shows("what to do first", "There is no index yet", "pingo apply")
	var address string
	do("the address", chromedp.Location(&address))
	if strings.Contains(address, "token") {
		t.Errorf("the token stays in the address: %s", address)
	}
	if _, err := w.client.Apply(t.Context(), []api.File{{Name: "pingo.yaml", Text: demo.Definition}}); err != nil {
		t.Fatal(err)
	}
	shows(
		"that it is true, without a reload",
		"huts is in sync",
		"huts",
		"huts-e1",
		"Proven equal: 100% by fingerprint and 10% by content within the last hour",
		"recent lag",
		"triggers note its changes in a journal, read by "+w.address,
		"all processed",
		"Process "+w.address+" (this one) feeds lodge",
	)

	// Numbers move by themselves, and a refused document is seen with its reason.
	w.fault(`{"refuse": {"42": "failed to parse field [beds] of type [long], because it is a test"}}`)
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Marmot Observatory' WHERE id = 42")
	shows("the failed document", "except 1 failed document", "see why")
	do("the source's page", chromedp.Click(`a[href="/sources/lodge"]`, chromedp.ByQuery))
	shows(
		"the outcome of the change",
		"Recent changes of lodge",
		"update\thuts 42\t1 refused",
		"What this way does not notice",
		"Its rows are in huts",
	)
	do("back", chromedp.Click(`main a[href="/"]`, chromedp.ByQuery))
	shows("the overview again", "except 1 failed document")
	do(
		"the index page by keyboard",
		chromedp.Focus(`a[href="/indexes/huts"]`, chromedp.ByQuery),
		chromedp.KeyEvent("\r"),
	)
	shows(
		"the reason",
		"History",
		"1 refused",
		"1 failed document",
		"The engine keeps beds as long",
		"because it is a test",
		"Retry it",
	)
	do("the document", chromedp.Click(`//section[@id="failed"]//button[text()="42"]`, chromedp.BySearch))
	shows("it as it was sent", "Failed once", "The row still makes the same document")
	var marked string
	do("the field at fault", chromedp.Text("#failed mark", &marked, chromedp.ByQuery))
	if !strings.Contains(marked, `"beds":`) {
		t.Errorf("marked is %q", marked)
	}
	do("a retry", chromedp.Click(`//button[contains(., "Retry it")]`, chromedp.BySearch))
	shows("that it was tried again", "1 sent again", "Failed 2 times")
	w.fault(`{}`)
	do("another retry", chromedp.Click(`//button[contains(., "Retry it")]`, chromedp.BySearch))
	w.eventually(10*time.Second, "it repaired itself", func() error {
		if text := page(); strings.Contains(text, "failed document") ||
			!strings.Contains(text, "The engine has every change that Pingo has read so far.") {
			return fmt.Errorf("%q", text)
		}
		return nil
	})
	pgtest.Exec(t, lodge, "UPDATE huts SET beds = 77 WHERE id = 42")
	do("searching", chromedp.KeyEvent("/"), chromedp.KeyEvent("marmot obs"))
	shows("the hit", "1 document", "Marmot Observatory")
	// Filters are taken up one by one; what is wrong with one is reported in a sentence.
	filter := func(text string) {
		t.Helper()
		do("filtering by "+text, chromedp.SendKeys(`//label[text()="Filters"]/..//input`, text+"\r", chromedp.BySearch))
	}
	filter("beds=lots")
	shows("what is wrong with it", `"lots" is no whole number`)
	do("taking it out", chromedp.SendKeys(`//label[text()="Filters"]/..//input`, "\b", chromedp.BySearch))
	filter("beds<0")
	shows("that nothing passes", "No document has these words and passes all filters")
	do("taking it out", chromedp.SendKeys(`//label[text()="Filters"]/..//input`, "\b", chromedp.BySearch))
	do("choosing it", chromedp.Click(`//button[contains(., "Marmot")]`, chromedp.BySearch))
	shows("the document", "Document 42", "is what the row makes now", `"beds": 77`)
	do("opening the same address", chromedp.Reload())
	shows("the search result", "1 document", "Document 42", "is what the row makes now")
	do("the definition", chromedp.Navigate(url+"/definition"))
	shows(
		"what documents are",
		"Definition version 1",
		"public.guest_notes",
		"by hut_id = id, where approved, order written_at DESC, at most 20",
		"through public.hut_amenities",
		"search 10, prefix",
		"2 documents built from the first rows",
	)
	// A draft is checked against the source and what is live; nothing is applied.
	draft := func(find, put string) {
		t.Helper()
		var done bool
		do(
			"editing",
			chromedp.Navigate(url+"/definition?view=text"),
			chromedp.WaitVisible("textarea", chromedp.ByQuery),
			chromedp.Evaluate(fmt.Sprintf(`(() => {
			const area = document.querySelector("textarea"), before = area.value;
			Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(area, before.replace(%q, %q));
			area.dispatchEvent(new Event("input", { bubbles: true }));
			return area.value !== before && before.includes("${LODGE_URL}");
		})()`, find, put), &done),
			chromedp.Click(`//button[contains(., "Check")]`, chromedp.BySearch),
		)
		if !done {
			t.Errorf("%s is not in the text", find)
		}
	}
	draft("altitude_m:", "altitud_m:")
	shows("what is wrong with it", "There is one mistake in it", "pingo.yaml:23:7", `did you mean "altitude_m"?`)
	draft("search: 10", "search: 7")
	shows("what it would change", "huts: in place", "name weighs 7 instead of 10 in searches (in place)")
	lighter := strings.Replace(demo.Definition, "search: 10", "search: 7", 1)
	if _, err := w.client.Apply(t.Context(), []api.File{{Name: "pingo.yaml", Text: lighter}}); err != nil {
		t.Fatal(err)
	}
	// Another edition is filled, answers, and the one before it does again.
	press := func(what, button string) {
		t.Helper()
		// Not at a place: the page may grow above the button meanwhile.
		do(what, chromedp.Evaluate(
			fmt.Sprintf(
				"document.evaluate(%q, document, null, 9, null).singleNodeValue.click()",
				`//button[text()="`+button+`"]`,
			),
			nil,
		))
	}
	was := w.edition("huts")
	do("the index", chromedp.Navigate(url+"/indexes/huts"))
	shows("its editions", was+" is live, from version", "Rebuild")
	press("asking for another edition", "Rebuild")
	shows("what it costs", "Rebuild huts?", "rows are read, and as many documents sent")
	press("agreeing", "Start rebuild")
	shows("both editions", was+" was live before", "Pingo keeps it in sync until", "Roll back")
	press("comparing", "Compare")
	shows("how they differ", "How the editions of huts differ", "0 differ", "Search both")
	do("closing", chromedp.Click(`//button[@aria-label="Close"]`, chromedp.BySearch))
	press("asking for the way back", "Roll back")
	shows("what that means", "Roll back to "+was+"?", "you can undo the rollback")
	press("agreeing", "Make it live")
	shows("that it answers again", was+" is live, from version")
	do("versions", chromedp.Navigate(url+"/definition?view=versions"))
	shows(
		"how they differ",
		"Definition version 2",
		"-       name:        { search: 10, match: prefix, sort: true }",
		"+       name:        { search: 7, match: prefix, sort: true }",
		"lines the same",
	)
	if text := page(); strings.Contains(text, "pingo:") {
		t.Error("a secret is shown")
	}
	do("a page that is not there", chromedp.Navigate(url+"/nonsense"))
	shows("that it is not there", "There is no such page")

	// A browser opens six connections to a host. Pages that were left, and are in its cache, hold none of them.
	soon, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if err := chromedp.Run(soon, chromedp.Navigate(url)); err != nil {
		t.Fatal("the overview after many pages:", err)
	}

	// When the service is gone, the page says so, and goes on by itself.
	shows("the overview", "huts is in sync")
	w.kill()
	shows("that nothing answers", "The service has not answered since")
	w.serve()
	w.index(
		10*time.Second,
		"it is true again",
		"huts",
		func(ix api.IndexStatus) bool { return ix.State == api.StateInSync },
	)
	w.eventually(15*time.Second, "the page goes on", func() error {
		if text := page(); strings.Contains(text, "has not answered since") ||
			!strings.Contains(text, "huts is in sync") {
			return fmt.Errorf("%q", text)
		}
		return nil
	})
	var readable bool
	do("the cookie", chromedp.Evaluate(`document.cookie.includes("pingo")`, &readable))
	if readable {
		t.Error("scripts can read the session")
	}
	do("leaving", chromedp.Click(`//button[contains(., "Sign out")]`, chromedp.BySearch))
	shows("that it is left", "Sign in to Pingo")
	response, err := http.Get(url + "/assets/none.js")
	if err != nil || response.Header.Get("Content-Security-Policy") == "" {
		t.Error("no content security policy", err)
	}
}
