package main

import (
	"net/http"
	_ "net/http/pprof"
	"os"
)

func init() {
	if a := os.Getenv("PPROF_TMP"); a != "" {
		go http.ListenAndServe(a, nil)
	}
}
