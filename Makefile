# Each target installs what it lacks first. A fresh machine needs `make demo` and `make test`, nothing else.
.PHONY: demo test check bench validate screenshots docs install
export TZ ?= UTC

demo: install
	@Rscript exec/twin demo

test:
	@tools/setup test
	@tools/install
	@Rscript tools/run-tests.R

check:
	@tools/setup test
	@tools/install
	@tools/check

bench: install
	@for script in bench/*.R; do echo "== $$script"; Rscript $$script || exit 1; done

# Monte Carlo study of every estimator; about half an hour on two cores. DRAWS=100 for a quick look.
DRAWS ?= 400
validate:
	@tools/setup test
	@tools/install
	@Rscript validation/run.R $(DRAWS)
	@Rscript validation/panels.R $(DRAWS)
	@Rscript validation/hidden.R $(DRAWS)

screenshots:
	@tools/setup screenshots
	@tools/install
	@tools/screenshots

docs:
	@tools/setup docs
	@tools/install
	@Rscript -e 'Rcpp::compileAttributes(".")' -e 'roxygen2::roxygenise(".", load_code = "installed")'
	@tools/install
	@Rscript tools/readme.R

# Puts the package into R's library, and `twin` on the PATH when a folder for it can be written to.
install:
	@tools/setup run
	@tools/install
	@tools/link
