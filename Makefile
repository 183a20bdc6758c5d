# Each target installs what it lacks first. A fresh machine needs `make demo` and `make test`, nothing else.
.PHONY: demo test lint articles simulations check sanitize fuzz bench validate screenshots docs site install
export TZ ?= UTC

demo: install
	@exec/twin demo
	@echo
	@exec/twin demo --database --out twin-demo-database

# The tests, side by side on all cores. FILTER=pairs for the files whose names hold "pairs".
test:
	@tools/setup test
	@tools/install
	@FILTER="$(FILTER)" Rscript tools/run-tests.R

# Style of R and C++.
lint:
	@tools/setup test
	@tools/install
	@tools/lint

# Does the README show what its code prints, do the documents' links lead somewhere?
articles:
	@tools/setup test
	@tools/install
	@FILTER="$(FILTER)" Rscript tools/run-tests.R documents

# Standard errors, coverage and levels by simulation, small; `make validate` is the whole study.
simulations:
	@tools/setup test
	@tools/install
	@FILTER="$(FILTER)" Rscript tools/run-tests.R simulations

check:
	@tools/setup docs
	@tools/install
	@tools/check

# The kernels under the address and undefined-behaviour sanitizers. RUNS of the random driver.
RUNS ?= 10000
sanitize:
	@tools/setup test
	@tools/sanitize $(RUNS)

bench: install
	@for script in bench/*.R; do echo "== $$script"; Rscript $$script || exit 1; done

# Every bad value in every place of every verb; about a quarter of an hour on two cores.
fuzz: install
	@tools/setup test
	@Rscript tools/fuzz.R

# Monte Carlo study of every estimator; about an hour on two cores. DRAWS=100 ERROR_DRAWS=100 for a quick look.
DRAWS ?= 400
ERROR_DRAWS ?= 1000
validate:
	@tools/setup test
	@tools/install
	@Rscript validation/errors.R $(ERROR_DRAWS)
	@Rscript validation/run.R $(DRAWS)
	@Rscript validation/panels.R $(DRAWS)
	@Rscript validation/synthetic.R
	@Rscript validation/hidden.R $(DRAWS)
	@Rscript validation/variation.R $(DRAWS)
	@Rscript validation/imputed.R $(DRAWS)
	@Rscript validation/arms.R $(DRAWS)
	@Rscript validation/censoring.R $(DRAWS)
	@Rscript validation/dose.R $(DRAWS)
	@Rscript validation/course.R $(DRAWS)
	@Rscript validation/models.R $(DRAWS)

screenshots:
	@tools/setup screenshots
	@tools/install
	@tools/screenshots

# Help pages, NAMESPACE, the README's output and the drawing of the rooms.
docs:
	@tools/setup docs
	@Rscript -e 'Rcpp::compileAttributes(".")'
	@tools/install
	@Rscript -e 'roxygen2::roxygenise(".", load_code = "installed")'
	@tools/install
	@Rscript tools/rooms.R
	@Rscript tools/readme.R

# The pages of the package as a site, in .build/site; needs no network.
site:
	@tools/setup docs
	@tools/install
	@tools/site

# Puts the package into R's library, and `twin` on the PATH when a folder for it can be written to.
install:
	@tools/setup run
	@tools/install
	@tools/link
