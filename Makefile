# Metabasis. Two commands matter: make demo and make test.

GO      ?= go
N       ?= 1000
SEED    ?= 1

.PHONY: demo test nightly test-real test-killed real-deps build deps vet lint race nights calibration fuzz bench install screenshots clean

demo: build
	bin/metabasis demo

build:
	$(GO) build -buildvcs=auto -o bin/metabasis ./cmd/metabasis

# The limit is for what hangs: on two cores all of it takes some five minutes.
test: deps vet
	TMPDIR=$$(scripts/tests-tmp) $(GO) test -count=1 -timeout 15m -p 4 -parallel 12 ./...

# What the tests need beside Go: tmux, the OpenSSH client, and a reader of PDF.
deps:
	@scripts/deps tmux:tmux ssh:openssh-client pdftotext:poppler-utils git:git curl:curl tftp:tftp-hpa

# Against real systems on loopback: OpenSSH, a Telnet server, BIRD 2, a firewall, NETCONF, SNMP.
# Needs root.
test-real: real-deps
	$(GO) vet -tags real ./internal/real
	$(GO) test -tags real -count=1 -timeout 15m ./internal/real

# The same routers and the same firewall, with the night killed in mid-trial and then gone on with,
# or taken back: some eight minutes, since trials and timers last as long as they last.
test-killed: real-deps
	$(GO) test -tags real -count=1 -timeout 20m ./internal/real -run Killed -args -killed

real-deps:
	@scripts/deps nft:nftables ip:iproute2 sshd:openssh-server ssh-agent:openssh-client bird:bird2 telnetd:inetutils-telnetd socat:socat useradd:passwd netconfd:netconfd netconfd:netconfd-module-ietf-system snmpd:snmpd snmpget:snmp git:git curl:curl tftp:tftp-hpa

vet:
	@test -z "$$(gofmt -l cmd internal demo profiles)" || { gofmt -l cmd internal demo profiles; echo "gofmt wants these"; exit 1; }
	$(GO) vet ./...

# What is looked for stands in .golangci.yml; the first run on a machine builds it.
LINT = $(GO) run github.com/golangci/golangci-lint/v2/cmd/golangci-lint@v2.15.0
lint:
	$(LINT) run ./...

race:
	$(GO) test -race -timeout 900s ./internal/core/... ./internal/device/... ./internal/store ./internal/sim ./internal/screen/... ./internal/acts ./internal/diag
	$(GO) test -race -timeout 900s ./internal/nights -args -nights 60

# make nights N=5000 SEED=1: that many random nights, from that seed on; and as many
# over a platform of drawn manners, with its profile right and with it wrong.
nights:
	$(GO) test ./internal/nights -run 'TestDrawn|TestMisled' -timeout 24h -parallel 8 -args -seed $(SEED) -nights $(N)
	$(GO) test ./internal/nights -run TestNights -timeout 24h -parallel 8 -args -seed $(SEED) -nights $(N)

# How often the end holds that is given for nine nights in ten, over 500 drawn nights.
calibration:
	$(GO) test ./internal/nights -run TestForecastsHold -v -timeout 1h -parallel 8 -args -seed $(SEED) -nights 4000 | grep 'of .* nights'

# Every parser that has a fuzz test, each for that long.
FUZZTIME ?= 30s
fuzz:
	scripts/fuzz $(FUZZTIME)

# What takes too long for each change: some two hours. N nights are drawn.
nightly: lint test race fuzz nights calibration test-killed

bench: build
	$(GO) test ./internal/core/config ./internal/core/plan ./internal/nights ./internal/acts ./internal/report ./internal/draw ./internal/screen/... -run '^$$' -bench . -benchtime 5x
	scripts/first-frame

# make install PREFIX=/usr/local DESTDIR=: the program, its man pages, and what shells
# complete.
PREFIX  ?= /usr/local
install: build
	install -d "$(DESTDIR)$(PREFIX)/bin" "$(DESTDIR)$(PREFIX)/share/bash-completion/completions" \
		"$(DESTDIR)$(PREFIX)/share/zsh/site-functions" "$(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d"
	install -m 755 bin/metabasis "$(DESTDIR)$(PREFIX)/bin/metabasis"
	bin/metabasis man "$(DESTDIR)$(PREFIX)/share/man/man1"
	bin/metabasis completion bash > "$(DESTDIR)$(PREFIX)/share/bash-completion/completions/metabasis"
	bin/metabasis completion zsh > "$(DESTDIR)$(PREFIX)/share/zsh/site-functions/_metabasis"
	bin/metabasis completion fish > "$(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/metabasis.fish"

screenshots: build
	@scripts/deps tmux:tmux kitty:kitty Xvfb:xvfb import:imagemagick pdfinfo:poppler-utils
	scripts/screenshots

clean:
	rm -rf bin
