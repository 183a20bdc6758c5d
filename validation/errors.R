# Standard errors against the spread of estimates, and coverage, for every estimator x design x (known, estimated score) x
# (clusters or not). Usage: Rscript validation/errors.R [draws] [n]
# Writes validation/results/errors.csv and errors.md.
suppressMessages(library(carefultwin))
args <- as.numeric(commandArgs(TRUE))
draws <- if (length(args) > 0L) args[1L] else 400
n <- if (length(args) > 1L) args[2L] else 600

# Four covariates, a linear outcome, an effect of 1 for everybody; with clusters both treatment and outcome share shocks
# within 40 of them.
draw_errors_world <- function(seed, clustered) {
  withr::with_seed(seed, {
    x <- matrix(rnorm(n * 4), n, dimnames = list(NULL, paste0("x", 1:4)))
    harbour <- rep(1:40, length.out = n)
    shock <- if (clustered) rnorm(40, sd = 0.5)[harbour] else 0
    lean <- if (clustered) rnorm(40, sd = 0.4)[harbour] else 0
    linear <- drop(x %*% c(0.5, 0.4, -0.3, 0.2)) - 0.4 + lean
    joined <- rbinom(n, 1, plogis(linear))
    income <- drop(x %*% c(1, 0.8, 0.5, -0.5)) + joined + shock + rnorm(n)
    data.frame(x, joined, income, harbour, chance = plogis(linear))
  })
}

# A draw in which a stratum lacks an arm has no such design; the table counts the others.
designs_of <- function(scored, estimand) {
  makers <- c(
    list("inverse weights" = weigh_units, "5 strata" = function(x) stratify_units(x, 5),
         "10 strata" = function(x) stratify_units(x, 10)),
    if (!scored$score$known) list("entropy weights" = function(x) weigh_units(x, "entropy"),
                                  "balancing-score weights" = function(x) weigh_units(x, "balancing_score")),
    if (estimand == "ATT") list("pairs, greedy" = pair_units,
                                "pairs, optimal" = function(x) pair_units(x, search = "optimal")),
    list("full matching" = group_units, "with replacement" = function(x) pair_units(x, replacement = TRUE))
  )
  made <- lapply(makers, function(make) tryCatch(make(scored), twin_error_input = function(e) NULL))
  Filter(Negate(is.null), made)
}

estimators_on <- function(design) {
  switch(design, "pairs, greedy" = , "pairs, optimal" = , "full matching" = , "with replacement" = c("difference", "regression"),
         c("difference", "regression", "augmented", "targeted"))
}

one_draw <- function(seed, clustered, known) {
  data <- draw_errors_world(seed, clustered)
  rows <- lapply(c("ATT", "ATE"), function(estimand) {
    study <- frame_study(data, "joined", "income", paste0("x", 1:4), estimand = estimand,
                         cluster = if (clustered) "harbour")
    scored <- if (known) score_units(study, score = "chance") else score_units(study)
    designs <- designs_of(scored, estimand)
    do.call(rbind, lapply(names(designs), function(name) {
      do.call(rbind, lapply(estimators_on(name), function(estimator) {
        row <- tidy(measure_effect(designs[[name]], estimator = estimator))
        row <- row[row$term == "difference", ]
        data.frame(estimand, design = name, estimator, estimate = row$estimate, se = row$std.error,
                   covers = row$conf.low <= 1 & row$conf.high >= 1)
      }))
    }))
  })
  do.call(rbind, rows)
}

summarise_errors <- function(rows) {
  keys <- interaction(rows$estimand, rows$design, rows$estimator, drop = TRUE, lex.order = TRUE)
  do.call(rbind, lapply(split(rows, keys), function(own) {
    data.frame(own[1L, c("estimand", "design", "estimator")], draws = nrow(own), bias = mean(own$estimate) - 1, sd = stats::sd(own$estimate),
               se_ratio = mean(own$se) / stats::sd(own$estimate), coverage = mean(own$covers), row.names = NULL)
  }))
}

cases <- expand.grid(known = c(FALSE, TRUE), clustered = c(FALSE, TRUE))
table <- do.call(rbind, lapply(seq_len(nrow(cases)), function(k) {
  started <- Sys.time()
  rows <- parallel::mclapply(seq_len(draws), function(seed) {
    suppressWarnings(one_draw(1e5 * k + seed, cases$clustered[k], cases$known[k]))
  }, mc.cores = as.integer(Sys.getenv("CORES", "2")))
  stopifnot(!vapply(rows, inherits, NA, "try-error"))
  message(k, " of ", nrow(cases), ": ", format(round(Sys.time() - started, 1)))
  cbind(score = if (cases$known[k]) "known" else "estimated", clusters = if (cases$clustered[k]) "40" else "none",
        summarise_errors(do.call(rbind, rows)))
}))

data.table::fwrite(table, "validation/results/errors.csv")
show <- table
for (name in c("bias", "sd", "se_ratio", "coverage")) show[[name]] <- formatC(show[[name]], digits = 3, format = "f")
writeLines(c(sprintf("# Standard errors over the spread of estimates, and coverage of 95%% intervals: %d draws of %d units", draws, n),
             "", paste("|", paste(names(show), collapse = " | "), "|"), paste0("|", strrep("---|", ncol(show))),
             apply(show, 1L, function(row) paste("|", paste(trimws(row), collapse = " | "), "|"))),
           "validation/results/errors.md")
off <- table[table$se_ratio < 0.95 | table$se_ratio > 1.1, ]
message(sprintf("%d of %d rows have a ratio outside 0.95 to 1.10.", nrow(off), nrow(table)))
print(off, row.names = FALSE)
