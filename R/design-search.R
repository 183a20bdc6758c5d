#' Search a metric that balances the covariates
#'
#' Evolves the weights of a diagonal metric so that pairs under it come out balanced ([Methods,
#' "Matching"](../doc/methods.html#matching), genetic search; Diamond & Sekhon 2013). Every candidate metric is matched
#' and judged in full. The metric found is part of the design, and [pair_units()] uses it with `on = "metric"`. The
#' outcome is not looked at.
#'
#' Metrics weigh squared differences of the covariates divided by their standard deviations; weights run from 0.001 to
#' 1,000, and the scaled distance is always among the first candidates. The search ends after `generations`, or
#' when the best has not improved for `patience` of them. Interrupting it keeps the best so far.
#'
#' @inheritParams pair_units
#' @param x A `twin_design` or `twin_study`; with `score = TRUE` or a score caliper it needs a score.
#' @param covariates Which of the study's covariates, names or a one-sided formula; all by default.
#' @param score Let the linear score be one of the columns of the metric? Default: if there is a score.
#' @param goal What is to be small in the worst row of the balance table: the absolute standardized difference `"smd"`
#'   (default), the distance of the distributions `"ks"` (numeric covariates), or, made large, `"p_value"`, the smallest
#'   p-value of tests of equal means and, for numeric covariates, of equal distributions.
#' @param caliper,caliper_unit `NULL` (default) or a caliper on the linear score, as in [pair_units()].
#' @param ratio How many partners each unit is matched with, default 1.
#' @param replacement Match with replacement? Default `TRUE`, as then the order of units does not matter; without, the
#'   hardest to match (with a score; otherwise the first row) chooses first.
#' @param population How many metrics a generation has, default 100.
#' @param generations How many generations at most, default 50.
#' @param patience How many generations without improvement end the search, default 15.
#' @param seed A whole number, default 1: the same seed finds the same metric, on any number of threads.
#' @return A `twin_design` with a metric and no pairs yet. `tidy(x, part = "metric")` gives `column` and `weight` (of
#'   squared raw differences) and `share` (of the weight of scaled columns); `tidy(x, part = "search")` the generations:
#'   `generation`, `candidates`, `best`, `mean`.
#' @section Errors: `twin_error_input` for options out of range, no covariate that varies, a score asked for that is not
#'   there; `twin_error_unsupported` for the estimands ATE (search for the ATT and ATC in turn), ATO and ATM.
#' @references Diamond, A., Sekhon, J. S. (2013). Genetic matching for estimating causal effects: a general multivariate
#'   matching method for achieving balance in observational studies. Review of Economics and Statistics 95.
#'   \doi{10.1162/REST_a_00318}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' searched <- search_metric(study, population = 20, generations = 5)
#' searched
#' pair_units(searched, on = "metric", replacement = TRUE)
#' @export
search_metric <- function(x, covariates = NULL, score = NULL, goal = c("smd", "ks", "p_value"), exact = NULL,
                          caliper = NULL, caliper_unit = "sd", ratio = 1, replacement = TRUE, population = 100,
                          generations = 50, patience = 15, seed = 1) {
  if (is_imputed(x)) return(in_each_set(x, search_metric, match.call()))
  again <- given_arguments(match.call())
  check_design(x)
  check_undesigned(x, "search_metric")
  check_search_estimand(study_of(x)$estimand)
  check_count(population, min = 10)
  check_count(generations, min = 1)
  check_count(patience, min = 1)
  check_seed(seed)
  check_count(ratio, min = 1, max = 1000)
  check_flag(replacement)
  if (is.null(score)) score <- !is.null(design_score(x)) else check_flag(score)
  if (score || !is.null(caliper)) check_score(x, "search_metric")
  goal <- check_choice(goal, c("smd", "ks", "p_value"))
  calipers <- if (!is.null(caliper)) check_calipers(x, caliper, caliper_unit, "metric")
  if (!all(calipers$name == "score")) abort_input("{.arg caliper} of a search limits the score only.")
  columns <- search_columns(x, covariates, score)
  task <- search_task(x, columns, exact, calipers, list(goal = goal, ratio = ratio, replacement = replacement))
  found <- evolve_metric(task, ncol(columns$scaled), population, generations, patience, seed)
  metric <- list(
    weights = stats::setNames(found$weights / columns$sd^2, colnames(columns$scaled)),
    scaled = stats::setNames(found$weights, colnames(columns$scaled)), history = found$history, goal = goal,
    plain = plain_loss(task), interrupted = found$interrupted
  )
  step <- list(verb = "search", label = sprintf("metric searched for %s", goal_words[[goal]]), goal = goal,
               covariates = covariates, score = score, exact = exact, calipers = calipers, ratio = round(ratio),
               replacement = replacement, population = population, generations = generations,
               patience = patience, seed = seed)
  design <- new_design(x, step[!vapply(step, is.null, NA)], metric = metric)
  log_design(design, "search", sprintf("%d candidates; best %s", sum(found$history$candidates),
                                       number_text(shown_goal(min(found$history$best), goal), 4)),
             step[setdiff(names(step), c("verb", "label", "seed"))], seed)
  remember(design, x, "search", again)
}

goal_words <- c(smd = "the worst |SMD|", ks = "the worst KS distance", p_value = "the smallest p-value")

# Losses of p-values are 1 - p.
shown_goal <- function(loss, goal) if (goal == "p_value") 1 - loss else loss

check_search_estimand <- function(estimand, call = rlang::caller_env()) {
  if (length(seeking_arms(estimand)) == 1L) return(invisible(estimand))
  abort_unsupported(c("A metric can't be searched for the {estimand}.",
                      i = "Frame the study for the ATT or the ATC."), call = call)
}

search_columns <- function(x, covariates, score, call = rlang::caller_env()) {
  raw <- space_columns(study_of(x), covariates, TRUE, call)
  if (score) raw <- cbind(raw, score = x$score$linear)
  columns <- varying_columns(raw, kept_weight(x), FALSE, call)
  list(scaled = sweep(columns$matrix, 2L, columns$sd, "/"), sd = columns$sd)
}

# Balance is judged on every row of the balance table, whatever columns make the metric.
search_task <- function(x, columns, exact, calipers, how, call = rlang::caller_env()) {
  study <- study_of(x)
  kept <- design_kept(x)
  arm <- seeking_arms(study$estimand)
  seekers <- which(kept & study$z == arm)
  pool <- which(kept & study$z != arm)
  rows <- level_matrix(study$columns)
  kinds <- vapply(study$columns, `[[`, "", "kind")[covariate_of_column(study)]
  flags <- endsWith(colnames(rows), paste0(": ", missing_level))
  groups <- exact_codes(x, exact, call)
  s <- sampling_weight(study)
  difficulty <- if (is.null(x$score)) -seq_along(seekers) else (2 * arm - 1) * x$score$linear[seekers]
  core_search_task(
    columns$scaled[seekers, , drop = FALSE], columns$scaled[pool, , drop = FALSE], rows[seekers, , drop = FALSE],
    rows[pool, , drop = FALSE], reference_sds(rows, study), kinds %in% c("numeric", "date") & !flags, s[seekers],
    s[pool], how$goal, how$ratio, how$replacement, order(-difficulty, seq_along(seekers)), groups[c(seekers, pool)],
    if (!is.null(calipers)) list(seekers = x$score$linear[seekers], pool = x$score$linear[pool],
                                 width = calipers$width)
  )
}

# Weights start at all ones (the scaled distance), at one column each, and at random. judge: see core_judge_metrics().
evolve_metric <- function(task, p, population, generations, patience, seed, judge = core_judge_metrics) {
  bounds <- log(c(1e-3, 1e3))
  best <- list(loss = c(Inf, Inf), genes = numeric(p))
  history <- data.frame(generation = integer(), candidates = integer(), best = double(), mean = double())
  interrupted <- FALSE
  run <- function(tick) {
    genes <- first_genes(p, population, bounds)
    known <- list(worst = numeric(), mean = numeric())  # of those that stay, which come first
    idle <- 0L
    for (generation in seq_len(generations)) {
      fresh <- genes[, seq_len(population) > length(known$worst), drop = FALSE]
      loss <- Map(c, known, judge(task, exp(fresh), thread_count()))
      rank <- order(order(loss$worst, loss$mean))
      first <- which.min(rank)
      improved <- loss$worst[first] < best$loss[1L] - 1e-12 ||
        (loss$worst[first] <= best$loss[1L] && loss$mean[first] < best$loss[2L] - 1e-12)
      if (improved) best <<- list(loss = c(loss$worst[first], loss$mean[first]), genes = genes[, first])
      idle <- if (improved) 0L else idle + 1L
      finite <- is.finite(loss$worst)
      history[generation, ] <<- list(generation, ncol(fresh), best$loss[1L], mean(loss$worst[finite]))
      tick(sprintf("best so far %.4f", best$loss[1L]))
      if (idle >= patience) break
      known <- lapply(loss, `[`, core_survivors(rank))
      genes <- core_breed(genes, rank, bounds)
    }
  }
  tryCatch(
    with_own_seed(seed, show_progress("Searching a metric", run, steps = generations)),
    interrupt = function(e) {
      if (nrow(history) == 0L) rlang::interrupt()
      interrupted <<- TRUE
    }
  )
  if (!all(is.finite(best$loss))) {
    abort_input("No metric gives any match within the caliper and the exact columns.", call = NULL)
  }
  list(weights = exp(best$genes), history = history, interrupted = interrupted)
}

first_genes <- function(p, population, bounds) {
  genes <- matrix(stats::runif(p * population, bounds[1L], bounds[2L]), p)
  genes[, 1L] <- 0
  single <- seq_len(min(p, population %/% 2L))
  genes[, 1L + single] <- bounds[1L]
  genes[cbind(single, 1L + single)] <- bounds[2L]
  genes
}

# What the scaled distance itself, all weights equal, achieves.
plain_loss <- function(task) core_judge_metrics(task, matrix(1, ncol(task$seekers), 1L))$worst
