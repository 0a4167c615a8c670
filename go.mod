module redlocket

go 1.26.0

require (
	github.com/dustin/go-humanize v1.1.0
	github.com/sethvargo/go-diceware v0.6.0
	github.com/stretchr/testify v1.12.1
	github.com/trustelem/zxcvbn v1.0.1
	golang.org/x/crypto v0.58.0
	golang.org/x/net v0.62.0
	golang.org/x/text v0.43.0
	pgregory.net/rapid v1.3.0
)

require (
	github.com/davecgh/go-spew v1.1.1 // indirect
	github.com/dlclark/regexp2 v1.12.0 // indirect
	github.com/google/go-cmp v0.7.0 // indirect
	github.com/pmezard/go-difflib v1.0.0 // indirect
	github.com/test-go/testify v1.1.4 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/sys v0.49.0 // indirect
)
