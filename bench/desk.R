# What one waits for on the desk: each step of a plan answered as the desk's worker does, then a design changed and the
# balance redrawn, at 2e5 and 1e6 rows with 8 covariates. Beside it the plain-R way of the same change: glm(), weights,
# standardised differences by a loop, in one run.
# usage: Rscript bench/desk.R [ROWS ...]
suppressMessages(library(carefultwin))
sizes <- as.numeric(commandArgs(TRUE))
if (length(sizes) == 0L) sizes <- c(2e5, 1e6)
columns <- paste0("x", 1:8)

plain_redraw <- function(data) {
  fit <- glm(reformulate(columns, "joined"), binomial(), data)
  e <- fitted(fit)
  w <- ifelse(data$joined == 1, 1, e / (1 - e))
  vapply(columns, function(x) {
    m <- tapply(data[[x]] * w, data$joined, sum) / tapply(w, data$joined, sum)
    (m[[2L]] - m[[1L]]) / sqrt(mean(tapply(data[[x]], data$joined, var)))
  }, 0)
}

for (n in sizes) {
  folder <- tempfile()
  dir.create(folder)
  set.seed(1)
  data <- as.data.frame(stats::setNames(lapply(columns, function(j) rnorm(n)), columns))
  data$joined <- as.integer(runif(n) < stats::plogis(data$x1 / 2 - data$x2 / 2 - 1))
  data$income <- rnorm(n)
  data.table::fwrite(data, file.path(folder, "units.csv"))
  plan <- list(study = list(data = "units.csv", treatment = "joined", outcome = "income",
                            covariates = as.list(columns)))
  plan <- carefultwin:::add_design(carefultwin:::add_design(plan, "weights"), "strata")
  as_read <- function(plan) carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), file.path(folder, "plan.yml"))
  kept <- new.env()
  took <- function(plan, step) system.time(carefultwin:::answer_step(as_read(plan), step, kept))[["elapsed"]]
  columns_took <- system.time(carefultwin:::answer_columns(as_read(plan)))[["elapsed"]]
  first <- vapply(c("question", "score", "designs"), function(step) took(plan, step), 0)
  plan$designs$weights[[2L]] <- list(weigh = list(method = "inverse", truncate = list(bound = 20)))
  changed <- took(plan, "designs")
  plain <- system.time(plain_redraw(data))[["elapsed"]]
  opened <- carefultwin:::unseal_plan(plan)
  after <- took(opened, "effects")
  words <- paste("%s rows: columns %.1f s, question %.1f, score %.1f, designs %.1f; a cut changed %.1f (plain R %.1f,",
                 "ratio %.2f); effects %.1f; R %.0f MB\n")
  cat(sprintf(words,
              format(n, big.mark = ","), columns_took, first[["question"]], first[["score"]], first[["designs"]],
              changed, plain, changed / plain, after, sum(gc()[, 6L])))
}
