#' Judge whether who is met changes with treatment
#'
#' In a repeated cross-section other units are met each time, and treatment may change who: crews may move to a harbour
#' because it has a cold store. A difference-in-differences then mixes the effect with the change of who is there. Here
#' each covariate takes the outcome's place: how its mean changed among the treated, less how it changed in the units
#' compared with, averaged over cohorts and periods under treatment as the effect is. In a panel it is asked of
#' covariates that vary over time whether treatment moves them: those that it moves should not be adjusted for. Nothing
#' is looked at of the outcome.
#'
#' @param panel A [panel][frame_panel] with covariates.
#' @param comparison,anticipation As in [measure_did()].
#' @param level Of intervals, and of the joint test of the verdict.
#' @return A `twin_composition`. `tidy()` gives one row per column of the covariates: `term`, `before` (mean among the
#'   treated in their base period), `estimate`, `std.error`, `statistic`, `df`, `p.value`, `conf.low`, `conf.high`,
#'   `standardised` (estimate over the standard deviation of all rows). `glance()` gives the joint test: `terms`,
#'   `statistic` (F), `df`, `df_below`, `p.value`, `largest` (standardised). `plot()` shows the standardised changes.
#' @section Errors: `twin_error_input` without covariates; `twin_error_unsupported` where no covariate varies within
#'   units, for panels in a database and panels with a design.
#' @family judging
#' @examples
#' crews_met <- frame_panel(landings, outcome = "catch_value", time = "quarter", group = "harbour",
#'                          treatment = "cold_store", covariates = ~ boat_length + gear)
#' assess_composition(crews_met)
#' @export
assess_composition <- function(panel, comparison = NULL, anticipation = 0, level = 0.95) {
  check_class(panel, "twin_panel", "frame_panel")
  call <- rlang::current_env()
  check_composition(panel, call)
  check_count(anticipation, min = 0)
  check_level(level)
  settings <- list(adjustment = "none", base = "fixed", comparison = panel_comparison(panel, comparison, call),
                   anticipation = anticipation)
  x <- covariate_matrix(panel$columns, panel$formula)
  moving <- apply(x, 2L, function(values) any(values != values[panel$first_row][panel$unit]) || !panel$repeats)
  x <- x[, moving, drop = FALSE]
  parts <- lapply(seq_len(ncol(x)), function(j) covariate_change(panel, x[, j], settings))
  if (all(vapply(parts, is.null, NA))) {
    abort_unsupported(c("No change can be measured.", x = "No cohort has a period before and after, with units to
                         compare with."), call = call)
  }
  se <- sqrt(vapply(parts, `[[`, 0, "variance"))
  estimate <- vapply(parts, `[[`, 0, "estimate")
  df <- vapply(parts, `[[`, 0, "df")
  half <- core_t_quantile(level, df) * se
  rows <- data.frame(
    term = colnames(x), before = vapply(parts, `[[`, 0, "before"), estimate = estimate, std.error = se,
    statistic = estimate / se, df = df, p.value = core_t_p_value(estimate / se, df), conf.low = estimate - half,
    conf.high = estimate + half, standardised = estimate / apply(x, 2L, stats::sd)
  )
  log_step(panel, "composition", paste(ncol(x), "covariates"), settings = settings)
  structure(list(panel = panel, rows = rows, joint = joint_change(parts, se, df), settings = settings, level = level),
            class = "twin_composition")
}

check_composition <- function(panel, call) {
  refuse_remote(panel, call)
  if (is_carried(panel)) {
    abort_unsupported(c("The balance of a panel with a design is that of {.fn assess_balance}.",
                        i = "Frame the panel without {.arg design}."), call = call)
  }
  if (length(panel$columns) == 0L) {
    abort_input(c("The panel has no covariates whose change could be judged.",
                  i = "Name {.arg covariates} in {.fn frame_panel}."), call = call)
  }
  if (!panel$repeats || length(changing_columns(panel)) > 0L) return(invisible(panel))
  abort_unsupported(c("Units are the same in every period, and so are all covariates: nothing can change.",
                      i = "In a panel this is asked of covariates that vary over time."), call = call)
}

# One column in the outcome's place. sums: contributions by cluster.
covariate_change <- function(panel, values, settings) {
  found <- panel_group_time(panel, values, settings)
  cells <- found$cells
  set <- which(cells$kind == "post" & !is.na(cells$estimate))
  if (length(set) == 0L) return(NULL)
  average <- core_average_cells(cells$estimate, cells$cohort, found$size, list(set))
  cluster <- cluster_codes(panel)
  own <- core_cohort_vcov(found$source, average$combine, average$shift, cluster)
  starts <- unique(cells[set, c("cohort", "base")])
  at <- paste(panel$cohort[panel$unit], panel$time) %in% paste(starts$cohort, starts$base)
  s <- if (is.null(panel$s)) rep(1, length(values)) else panel$s
  list(estimate = average$estimate, variance = own$vcov[1L, 1L], df = own$df[1L],
       before = sum((s * values)[at]) / sum(s[at]),
       sums = core_cluster_sums(found$source, average$combine, average$shift, cluster)[, 1L])
}

# All changes together: correlations by clusters, variances their own.
joint_change <- function(parts, se, df) {
  known <- which(is.finite(se) & se > 0)
  none <- list(statistic = NA_real_, df = NA_real_, df_below = NA_real_, p.value = NA_real_)
  if (length(known) == 0L) return(none)
  sums <- do.call(cbind, lapply(parts[known], `[[`, "sums"))
  correlation <- stats::cov2cor(crossprod(sums))
  estimate <- vapply(parts[known], `[[`, 0, "estimate")
  least <- min(df[known])
  test <- core_zero_test(estimate, correlation * outer(se[known], se[known]), least)
  below <- least - test[["df"]] + 1
  if (is.na(test[["p.value"]])) return(none)
  list(statistic = test[["statistic"]] / test[["df"]] * below / least, df = test[["df"]], df_below = below,
       p.value = test[["p.value"]])
}

#' @exportS3Method
study_of.twin_composition <- function(x) x$panel # nolint: object_name_linter. An S3 method.

#' @export
tidy.twin_composition <- function(x, ...) { # nolint: object_name_linter. An S3 method.
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_composition <- function(x, ...) x$rows

#' @export
glance.twin_composition <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(terms = nrow(x$rows), statistic = x$joint$statistic, df = x$joint$df, df_below = x$joint$df_below,
             p.value = x$joint$p.value, largest = max(abs(x$rows$standardised), na.rm = TRUE))
}
