// Ledgerman over plain HTTP, with Go's own client: load, change with the guard, meet a conflict, run a transaction, repeat safely.
package main

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"time"
)

type object = map[string]any

// Problem is a refusal: branch on Code; what the code promises stands in Facts.
type Problem struct {
	Code  string
	Facts object
}

func (p Problem) Error() string { return fmt.Sprint(p.Facts["detail"]) }

// call makes one call. What is too busy or away (429, 503) is asked again: safe for reads, and for writes with an idempotency key.
func call(method, path string, body any, headers map[string]string) (object, string, error) {
	sent, err := json.Marshal(body)
	if err != nil {
		return nil, "", err
	}
	mayRepeat := method == "GET" || headers["idempotency-key"] != ""
	for attempt := 1; ; attempt++ {
		request, err := http.NewRequest(method, os.Getenv("LEDGERMAN_URL")+"/v1/targets/observatory"+path, bytes.NewReader(sent))
		if err != nil {
			return nil, "", err
		}
		if body == nil {
			request.Body = http.NoBody
			request.ContentLength = 0
		}
		request.Header.Set("authorization", "Bearer "+os.Getenv("LEDGERMAN_TOKEN"))
		request.Header.Set("content-type", "application/json")
		for name, value := range headers {
			request.Header.Set(name, value)
		}
		answer, err := (&http.Client{Timeout: time.Minute}).Do(request)
		if err != nil {
			return nil, "", err
		}
		var told object
		err = json.NewDecoder(answer.Body).Decode(&told)
		answer.Body.Close()
		if err != nil {
			return nil, "", err
		}
		if answer.StatusCode < 300 {
			return told, answer.Header.Get("etag"), nil
		}
		isBusy := answer.StatusCode == 429 || answer.StatusCode == 503
		if !isBusy || !mayRepeat || attempt == 5 {
			return nil, "", Problem{Code: fmt.Sprint(told["code"]), Facts: told}
		}
		time.Sleep(time.Second)
	}
}

func must[T any](value T, etag string, err error) (T, string) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	return value, etag
}

func main() {
	programme := "/mappings/programme/records/P-107"
	loaded, etag := must(call("GET", programme, nil, nil))
	fmt.Printf("P-107 has %v hours left, guard %v\n", loaded["record"].(object)["hoursLeft"], loaded["guard"])

	seen := map[string]string{"if-match": etag}
	changed, _ := must(call("PATCH", programme, object{"set": object{"hoursLeft": "14.50"}}, seen))
	fmt.Printf("changed: guard %v\n", changed["guard"])

	_, _, err := call("PATCH", programme, object{"set": object{"hoursLeft": "12.00"}}, seen)
	if problem, ok := err.(Problem); ok && problem.Code == "record-changed" {
		yours, current := problem.Facts["yours"].(object), problem.Facts["current"].(object)
		fmt.Printf("conflict: yours %v, current %v\n", yours["hoursLeft"], current["hoursLeft"])
	}

	key := make([]byte, 16)
	rand.Read(key)
	once := map[string]string{"idempotency-key": fmt.Sprintf("%x", key)}
	run := object{"mode": "commit", "transaction": "move-hours", "params": object{"from": "P-107", "to": "P-112", "hours": "4"}}
	for attempt := 0; attempt < 2; attempt++ {
		receipt, _ := must(call("POST", "/runs", run, once))
		if receipt["replayed"] == true {
			fmt.Println("the same run again: nothing was done twice")
		} else {
			fmt.Println("moved 4 hours")
		}
	}
}
