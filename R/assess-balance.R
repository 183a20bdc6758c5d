#' Assess covariate balance before and after a design
#'
#' Compares the arms covariate by covariate, level by level, in the sample before the design and in the one after it
#' ([Methods, "Balance"](../doc/methods.html#balance)). Look here before opening the outcome: balance belongs to the
#' sample, and no p-value is needed to judge it.
#'
#' @param x A `twin_design`, a `twin_study` for the sample before any design, or a named list of designs of one study
#'   to judge side by side. Or a [panel][frame_panel]: the balance of what its cohorts were before treatment against
#'   units not treated, cohort by cohort where there are several, before and after the designs carried into it; without
#'   one, of its covariates. Or a `twin_arms` of [frame_arms()]: of every two arms that speak of one population.
#' @param limit Largest acceptable absolute standardized mean difference: a number, or `"strict"` (0.05), `"standard"`
#'   (0.1, default) or `"lenient"` (0.25).
#' @param ratio_range Acceptable range of the variance ratio, two numbers; 0.5 to 2 by default, 0.8 to 1.25 for
#'   `limit = "strict"`.
#' @param reference Whose standard deviation, before the design, standardizes: `"treated"`, `"control"`, `"pooled"`
#'   (root of the mean of both variances) or `"all"` (both arms together); by default treated for the ATT, control for
#'   the ATC, pooled otherwise. Or the standard deviations themselves, positive numbers named by covariate, or by row
#'   such as `"port_size: small"`; rows not named get the default.
#' @param extra More rows: any of `"score"` (the linear score), `"squares"` and `"cubes"` of numeric columns,
#'   `"interactions"` (products of any two numeric or yes/no columns) and `"factors"` (one row for all levels of a
#'   factor together: the length of the vector of differences in the metric of the shares' covariance before the design,
#'   which is never negative). None by default.
#' @param custom Rows of one's own, whether or not the design used them: a list of one-sided formulas in columns of the
#'   data, named, such as `list("income per head" = ~ past_income / crew_size)`. They must give a finite number in
#'   every row of the study.
#' @param by Name of a column with a few levels, or `".stratum"` for the strata of [stratify_units()]: the table is also
#'   made for each, with the reference sd of the whole sample.
#' @param tests Also give a t-statistic and p-value of each difference (weights taken as known; clustered as the study
#'   says)? Default `FALSE`: a p-value shrinks with n and says nothing about the size of an imbalance.
#' @return A `twin_balance`. `tidy()` gives one row per covariate or level and sample with the columns `covariate`,
#'   `level`, `kind` ("numeric", "date", "binary", "level", "missing", and for rows asked for "score", "square", "cube",
#'   "interaction", "custom", "factor"), `sample` ("before", "after"; the designs' names for a list), `mean_treated`,
#'   `mean_control`, `sd_treated`, `sd_control`, `difference` (treated minus control), `smd`, `variance_ratio`
#'   (numeric rows), `ks`, `ecdf_mean`, `pass` (NA where the standardized difference is undefined, and where
#'   `one_arm`), `one_arm` (a level, or missing values, that only one arm has: nobody can balance it while such units
#'   are in, so its row is shown but does not count), `reduction` (per cent by which |SMD| fell, NA before), with
#'   `tests` also `statistic` and `p.value`, with `by` also `group` (NA for the whole). `glance()` gives one row per
#'   sample after the design (one for the sample before, if there is no design): `rows`, `passing`, `worst_smd`,
#'   `worst_covariate`, `ess_treated`, `ess_control`, `mahalanobis`, with a list of designs also `sample`.
#'   `tidy(part = "limits")` judges by other limits too: per sample and set of limits (`limits`: "own", "strict",
#'   "standard", "lenient") the limits `smd`, `ratio_low`, `ratio_high`, how many `rows` are `passing`, and the names of
#'   those `failing`.
#'
#'   Of several arms a `twin_arms_balance`: `tidy()` gives one row per pair of arms (`first`, `second`), covariate or
#'   level and sample, with `mean_first`, `mean_second`, `sd_first`, `sd_second`, `smd` (first minus second),
#'   `variance_ratio` and `pass`; `tidy(x, part = "worst")` the pair that lies furthest apart, `pass` for all;
#'   `glance()` `rows`, `passing`, `worst_smd`, `worst_covariate` and the two arms; `x[["nets"]]` the `twin_balance` of
#'   one arm against the reference. `by` and `tests` are for two arms.
#' @section Errors: `twin_error_input` for limits out of range, designs of different studies, custom rows that are not
#'   finite, or a `by` with too many values.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' scored <- score_units(study)
#' balance <- assess_balance(pair_units(scored, caliper = 0.2))
#' balance
#' plot(balance)
#' assess_balance(list(pairs = pair_units(scored), weights = weigh_units(scored)), extra = "squares")
#' @export
assess_balance <- function(x, limit = "standard", ratio_range = NULL,
                           reference = c("by_estimand", "treated", "control", "pooled", "all"), extra = character(),
                           custom = list(), by = NULL, tests = FALSE) {
  if (is_imputed(x)) return(in_each_set(x, assess_balance, match.call()))
  if (are_imputed(x)) return(in_each_set(side_by_side(x), assess_balance, match.call()))
  if (is_arms(x)) {
    return(arms_balance(x, given_arguments(match.call()), names(match.call())[-1L]))
  }
  if (is_course(x)) return(course_balance(x, limit, names(match.call())[-1L]))
  if (are_doses(x)) return(dose_balance(x, limit, names(match.call())[-1L]))
  if (inherits(x, "twin_panel")) {
    if (!is.null(by)) abort_input("A panel's balance is told by cohort: leave out {.arg by}.")
    judged <- judged_panel(x)
    x <- judged$study
  } else {
    judged <- NULL
  }
  designs <- balance_designs(x)
  study <- study_of(designs[[1L]])
  limits <- balance_limits(limit, ratio_range)
  reference <- balance_reference(reference, study$estimand)
  check_flag(tests)
  if (is_remote(study)) {
    return(remote_balance(designs, limits, reference, extra, custom, by, tests, rlang::current_env()))
  }
  more <- c(extra_columns(designs, extra), custom_columns(study, custom))
  wide <- if (length(more) > 0L) amend(study, columns = c(study$columns, more)) else study
  reference <- find_given(reference, wide)
  weights <- if (is.null(judged)) balance_weights(designs) else judged$weights
  by <- if (length(judged$groups) > 0L) "cohort" else by
  more_groups <- if (is.null(judged)) balance_groups(designs, by) else judged$groups
  groups <- c(list(rep(TRUE, length(study$z))), more_groups)
  plain <- is.null(judged) && length(designs) == 1L && length(wide$columns) == length(study$columns) &&
    is.null(study$outside)
  known <- if (plain) design_moments(designs[[1L]])
  rows <- balance_rows(wide, weights, groups, reference, limits, tests, known, "factors" %in% extra)
  balance <- new_balance(if (is.null(by)) rows[names(rows) != "group"] else rows, list(
    limits = limits, reference = reference, labels = vapply(wide$columns, `[[`, "", "label"), levels = study$levels,
    design = if (is.null(judged)) paste(unique(vapply(designs, design_label, "")), collapse = "; ") else judged$label,
    estimand = study$estimand,
    totals = balance_totals(study, weights, rows, groups), by = by, tests = tests, study = wide, weights = weights,
    several = length(designs) > 1L, imputed = NULL
  ))
  log_balance(balance, extra, by)
  balance
}

# What was judged, and how it came out.
log_balance <- function(balance, extra, by) {
  judged <- do.call(rbind, lapply(judged_samples(balance), function(sample) sample_rows(balance, sample)))
  judged <- judged[!is.na(judged$pass), ]
  log_once(balance$study, "judge", paste("balance of", balance$design),
           sprintf("%d of %d rows pass", sum(judged$pass), nrow(judged)),
           list(limit = balance$limits$smd, extra = if (length(extra) > 0L) extra, by = by))
}

# Subgroups by a column of the data, or the design's own strata.
balance_groups <- function(designs, by, call = rlang::caller_env()) {
  if (is.null(by)) return(NULL)
  if (!identical(by, ".stratum")) return(study_groups(study_of(designs[[1L]]), by, call))
  design <- designs[[1L]]
  if (length(designs) > 1L || design_kind(design) != "strata") {
    abort_input(c("{.code by = \".stratum\"} needs one design with strata.", i = "See {.fn stratify_units}."),
                call = call)
  }
  lapply(split(seq_along(design$set), design$set), function(rows) seq_along(design$set) %in% rows)
}

# A named list of designs; a single one goes by the name "after".
balance_designs <- function(x, call = rlang::caller_env()) {
  if (inherits(x, c("twin_study", "twin_design"))) return(list(after = x))
  if (!is_named_list(x) || length(x) == 0L || anyDuplicated(names(x)) > 0L) check_design(x, "x", call)
  for (design in x) check_class(design, "twin_design", "score_units", "x", call)
  if ("before" %in% names(x)) abort_input("A design can't be named {.val before}.", call = call)
  hashes <- unique(vapply(x, function(design) design$study$hash, ""))
  if (length(hashes) > 1L) abort_input("Designs side by side must come from one study.", call = call)
  x
}

# The weights s * w of every sample: before, then each design that makes a comparison.
balance_weights <- function(designs) {
  made <- Filter(alters_sample, designs)
  c(list(before = sampling_weight(study_of(designs[[1L]]))), lapply(made, full_weight))
}

# facts: limits, reference, labels of the columns, levels of the treatment, design, estimand, totals by sample, and the
# study and weights behind it, for plots.
new_balance <- function(rows, facts) {
  stopifnot(is.data.frame(rows), c("covariate", "smd", "pass") %in% names(rows), is.list(facts))
  rownames(rows) <- NULL
  structure(c(list(rows = rows), facts), class = "twin_balance")
}

balance_limits <- function(limit, ratio_range, call = rlang::caller_env()) {
  presets <- c(strict = 0.05, standard = 0.1, lenient = 0.25)
  if (is.null(ratio_range)) ratio_range <- if (identical(limit, "strict")) c(0.8, 1.25) else c(0.5, 2)
  if (is.character(limit)) limit <- presets[[check_choice(limit, names(presets), "limit", call)]]
  check_number(limit, min = 0, open = TRUE, call = call)
  if (!is_ratio_range(ratio_range)) {
    abort_input("{.arg ratio_range} must be two positive numbers around 1, such as c(0.5, 2).", call = call)
  }
  list(smd = limit, ratio = ratio_range)
}

is_ratio_range <- function(x) is.numeric(x) && length(x) == 2L && all(is.finite(x), x[1L] > 0, x[1L] <= 1, x[2L] >= 1)

# list(from, given): whose sd standardizes, and sds given by name.
balance_reference <- function(reference, estimand, call = rlang::caller_env()) {
  by_estimand <- reference_arm(estimand)
  if (is.list(reference)) reference <- unlist(reference)
  if (!is.numeric(reference)) {
    from <- check_choice(reference, c("by_estimand", "treated", "control", "pooled", "all"), "reference", call)
    return(list(from = if (from == "by_estimand") by_estimand else from, given = NULL))
  }
  if (!are_named_numbers(reference) || is.matrix(reference) || any(reference <= 0)) {
    abort_input(c("{.arg reference} must be positive numbers with the names of covariates, or one word.",
                  x = "It is {describe_value(reference)}.", i = "For example c(boat_length = 2.5)."), call = call)
  }
  list(from = by_estimand, given = reference)
}

# Every sd given must have its row.
find_given <- function(reference, study, call = rlang::caller_env()) {
  known <- unlist(Map(indicator_names, study$columns, names(study$columns)), use.names = FALSE)
  unknown <- setdiff(names(reference$given), c(known, names(study$columns)))
  if (length(unknown) == 0L) return(reference)
  near <- nearest_name(unknown[1L], c(names(study$columns), known))
  abort_input(c("{.arg reference} must name rows of the table.", x = "There is no {.val {unknown}}.",
                i = if (is.null(near)) "The rows are {.val {known}}." else "Did you mean {.val {near}}?"),
              unknown = unknown, call = call)
}

# What differences are measured by, worked out in the sample before the design: list(sd: per row, lone: is it a level of
# one arm only, factors: see factor_covariances(), NULL where they are not asked for).
balance_yardstick <- function(study, before, reference, factors) {
  whole <- if (reference$from == "all") whole_moments(study)
  lone <- in_one_arm(before)
  list(sd = row_sds(before, reference, whole$sd), lone = lone,
       factors = if (factors) factor_covariances(before, lone, reference$from, whole$mean))
}

# whole: sds of both arms together, where those are asked for.
row_sds <- function(before, reference, whole) {
  sd <- if (reference$from == "all") whole
        else core_reference_sd(before$var_treated, before$var_control, reference$from)
  names <- row_name(before$covariate, before$level)
  for (name in names(reference$given)) {
    sd[names == name | (before$covariate == name & before$kind != "missing")] <- reference$given[[name]]
  }
  sd
}

# Mean and sd of every row in both arms together, with the sampling weights.
whole_moments <- function(study) {
  s <- sampling_weight(study)
  rows <- lapply(unname(study$columns), function(column) {
    own <- column_indicators(column)
    plain <- length(own) - !is.null(column$flag)
    share <- column$kind %in% c("factor", "binary") | seq_along(own) > plain
    mean <- vapply(own, function(values) sum(s * values) / sum(s), 0)
    variance <- mean * (1 - mean)
    variance[!share] <- vapply(own[!share], function(values) drop(core_covariance(cbind(values), s)), 0)
    data.frame(mean = mean, sd = sqrt(variance))
  })
  do.call(rbind, rows)
}

# All samples of all groups, the whole first; the reference sd is that of the whole sample before the design. known: the
# moments of the whole, where they have been worked out; factors: also a row for all levels of each factor together?
balance_rows <- function(study, weights, groups, reference, limits, tests, known, factors) {
  yardstick <- NULL
  blocks <- Map(function(inside, group) {
    whole <- all(inside)
    part <- if (whole) study else restrict_study(study, inside)
    v <- if (whole) weights else lapply(weights, `[`, inside)
    samples <- balance_moments(part, v, distribution = TRUE, known = if (whole) known)
    if (is.null(yardstick)) {
      yardstick <<- balance_yardstick(study, samples$before, reference, factors)
    }
    rows <- Map(function(rows, sample) finish_rows(rows, yardstick, limits, sample), samples, names(samples))
    if (tests) rows <- Map(function(rows, v) cbind(rows, balance_tests(part, v)), rows, v)
    rows <- lapply(rows, with_factor_rows, yardstick = yardstick, limits = limits)
    rows <- lapply(rows, add_reduction, before = rows$before)
    cbind(group = group, do.call(rbind, unname(rows)))
  }, groups, c(NA, names(groups)[-1L]))
  do.call(rbind, unname(blocks))
}

# The covariance of the shares of each factor's levels before the design, by factor; lone levels are left out. before:
# the moments, one row per level; whole: shares in both arms together, where those are asked for.
factor_covariances <- function(before, lone, from, whole) {
  before$mean_all <- if (is.null(whole)) NA_real_ else whole
  rows <- before[before$kind == "level" & !lone, ]
  lapply(split(rows, factor(rows$covariate, unique(rows$covariate))), function(own) {
    core_share_covariance(own$mean_treated, own$mean_control, own$mean_all, from)
  })
}

# One more row per factor: all of its levels together.
with_factor_rows <- function(rows, yardstick, limits) {
  more <- Map(function(covariance, name) {
    own <- rows[rows$covariate == name & rows$kind == "level" & !rows$one_arm, ]
    smd <- core_mahalanobis_length(own$difference, covariance)
    row <- own[1L, ]
    row[vapply(row, is.numeric, NA)] <- NA_real_
    row[c("level", "kind")] <- list("(all levels)", "factor")
    row[c("smd", "pass", "one_arm")] <- list(smd, smd <= limits$smd, FALSE)
    row
  }, yardstick$factors, names(yardstick$factors))
  do.call(rbind, c(list(rows), unname(more)))
}

# yardstick$lone: rows of levels that only one arm has before the design. While they are in nobody can make them pass,
# and they do not count.
finish_rows <- function(rows, yardstick, limits, sample) {
  lone <- yardstick$lone
  smd <- standardized(rows$mean_treated - rows$mean_control, yardstick$sd)
  share <- rows$kind %in% c("binary", "level", "missing")
  ratio <- ifelse(!share & rows$var_control > 0, rows$var_treated / rows$var_control, NA)
  ratio_fails <- !is.na(ratio) & (ratio < limits$ratio[1L] | ratio > limits$ratio[2L])
  data.frame(
    covariate = rows$covariate, level = rows$level, kind = rows$kind, sample = sample,
    mean_treated = rows$mean_treated, mean_control = rows$mean_control,
    sd_treated = sqrt(rows$var_treated), sd_control = sqrt(rows$var_control),
    difference = rows$mean_treated - rows$mean_control, smd = smd, variance_ratio = ratio,
    ks = rows$ks, ecdf_mean = rows$ecdf_mean,
    pass = ifelse(is.na(smd) | (lone & smd != 0), NA, abs(smd) <= limits$smd & !ratio_fails), one_arm = lone
  )
}

# Methods: percent reduction of |SMD| from before to after.
add_reduction <- function(rows, before) {
  after <- rows$sample[1L] != "before"
  rows$reduction <- if (after) ifelse(before$smd == 0, NA, 100 * (1 - abs(rows$smd) / abs(before$smd))) else NA_real_
  rows
}

# t of every difference, weights taken as known.
balance_tests <- function(study, v) {
  indicators <- unlist(lapply(unname(study$columns), column_indicators), recursive = FALSE)
  results <- lapply(indicators, function(values) {
    means <- core_weighted_means(values, study$z, v)
    variance <- core_vcov(means$influence() %*% c(1, -1), study$cluster, study$stratum, used = v > 0, lonely = "centre")
    t <- (means$estimate[[1L]] - means$estimate[[2L]]) / sqrt(variance$vcov[1L, 1L])
    c(statistic = t, p.value = 2 * stats::pt(-abs(t), variance$clusters - 1))
  })
  as.data.frame(do.call(rbind, results))
}

# What these rows are called.
indicator_names <- function(column, name) {
  level <- if (column$kind %in% c("numeric", "date") || is.null(column$levels)) NA_character_ else column$levels
  row_name(name, c(level, if (!is.null(column$flag)) missing_level))
}

# Rows on request. Products are of centred columns, so that a square is about spread and an interaction about joint
# movement, not about the means again.
extra_columns <- function(designs, extra, call = rlang::caller_env()) {
  if (!is.character(extra)) {
    abort_input(c("{.arg extra} must be words in quotes.", x = "It is {describe_value(extra)}."), call = call)
  }
  for (word in extra) check_choice(word, c("score", "squares", "cubes", "interactions", "factors"), "extra", call)
  if (length(extra) == 0L) return(list())
  study <- study_of(designs[[1L]])
  scalar <- Filter(function(column) column$kind %in% c("numeric", "date", "binary"), study$columns)
  centred <- if (is_remote(study)) centred_words(study, scalar) else centred_values(study, scalar)
  numeric <- centred[vapply(scalar, function(column) column$kind != "binary", NA)]
  powers <- function(power, mark, kind) {
    columns <- lapply(numeric, function(x) {
      row_column(if (is_remote(study)) call("^", x, power) else x^power, kind, study)
    })
    stats::setNames(columns, paste0(names(numeric), rep(mark, length(numeric))))
  }
  c(
    if ("score" %in% extra) score_columns(designs, call),
    if ("squares" %in% extra) powers(2, "^2", "square"), if ("cubes" %in% extra) powers(3, "^3", "cube"),
    if ("interactions" %in% extra) interaction_columns(centred, study)
  )
}

# Less their weighted means.
centred_values <- function(study, columns) {
  s <- sampling_weight(study)
  lapply(columns, function(column) column$values - sum(s * column$values) / sum(s))
}

score_columns <- function(designs, call) {
  scored <- Filter(function(design) !is.null(design_score(design)), designs)
  if (length(scored) == 0L) {
    abort_input(c("{.code extra = \"score\"} needs a design with a score.", i = "Call {.fn score_units} first."),
                call = call)
  }
  list("linear score" = row_column(scored[[1L]]$score$linear, "score", study_of(scored[[1L]])))
}

interaction_columns <- function(centred, study) {
  if (length(centred) < 2L) return(list())
  pairs <- utils::combn(names(centred), 2L, simplify = FALSE)
  product <- if (is_remote(study)) function(a, b) call("*", a, b) else `*`
  products <- lapply(pairs, function(pair) {
    row_column(product(centred[[pair[1L]]], centred[[pair[2L]]]), "interaction", study)
  })
  stats::setNames(products, vapply(pairs, paste, "", collapse = " x "))
}

custom_columns <- function(study, custom, call = rlang::caller_env()) {
  if (!is_named_list(custom) || !all(vapply(custom, rlang::is_formula, NA))) {
    abort_input("{.arg custom} must be a named list of one-sided formulas, such as list(\"a per b\" = ~ a / b).",
                call = call)
  }
  Map(function(formula, name) {
    check_columns(all.vars(formula), study$data, "custom", call)
    values <- eval(formula[[length(formula)]], study$data, environment(formula))
    if (length(values) != nrow(study$data) || !(is.numeric(values) || is.logical(values))) {
      abort_input("The custom row {.val {name}} must be one number per row of the data.", call = call)
    }
    values <- as.double(values)[study$rows]
    bad <- which(!is.finite(values))
    if (length(bad) > 0L) {
      abort_input(c("The custom row {.val {name}} must be finite in every row of the study.",
                    x = "It is not in {length(bad)}; first rows: {first_rows(study$rows[bad])}."), call = call)
    }
    row_column(values, "custom", study)
  }, custom, names(custom))
}

# values: of the rows, or in a database a call that makes a word.
row_column <- function(values, kind, study) {
  facts <- list(kind = kind, label = "", levels = NULL, missing = 0L, flag = NULL)
  c(facts, if (is_remote(study)) list(word = say_word(study$rows, "x", values)) else list(values = values))
}

# Per sample: effective sizes and joint imbalance of the study's own covariates (Methods: Mahalanobis distance between
# the arms' weighted mean vectors, covariance of the sample before the design).
# One row per group (NA for all units) and sample.
balance_totals <- function(study, weights, rows, groups) {
  covariance <- core_covariance_of(core_column_products(column_vectors(study$columns), study$s))
  names <- if (is.null(names(groups))) NA_character_ else c(NA, names(groups)[-1L])
  do.call(rbind, Map(function(inside, group) {
    do.call(rbind, lapply(names(weights), function(sample) {
      sizes <- arm_sizes(weights[[sample]] * inside, study$z)
      own <- rows[rows$sample == sample & rows$group %in% group, ]
      data.frame(sample = sample, group = group, ess_treated = sizes[["treated"]], ess_control = sizes[["control"]],
                 mahalanobis = core_mahalanobis_length(mean_gaps(study, own), covariance))
    }))
  }, groups, names))
}

# Differences in means of the columns of the model matrix, which has every row of the table but those of first levels.
mean_gaps <- function(study, rows) {
  first <- unlist(lapply(study$columns, function(column) {
    if (column$kind == "factor") seq_along(column$levels) == 1L else logical(1L + !is.null(column$flag))
  }))
  rows$difference[seq_along(first)][!first]
}

#' @export
tidy.twin_balance <- function(x, part = c("rows", "limits"), ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("rows", "limits"))
  if (part == "rows") return(x$rows)
  presets <- lapply(stats::setNames(nm = c("strict", "standard", "lenient")), balance_limits, ratio_range = NULL)
  limits <- c(list(own = x$limits), presets)
  do.call(rbind, unname(Map(limit_rows, limits, names(limits), MoreArgs = list(x = x))))
}

# How the rows fare by other limits, a row per judged sample.
limit_rows <- function(limit, name, x) {
  do.call(rbind, lapply(judged_samples(x), function(sample) {
    rows <- sample_rows(x, sample)
    rows <- rows[!uncounted(rows) & !is.na(rows$smd), ]
    ratio <- ifelse(is.na(furthest_ratio(rows)), 1, furthest_ratio(rows))
    passes <- abs(largest_smd(rows)) <= limit$smd & ratio >= limit$ratio[1L] & ratio <= limit$ratio[2L]
    data.frame(limits = name, sample = sample, smd = limit$smd, ratio_low = limit$ratio[1L],
               ratio_high = limit$ratio[2L], rows = nrow(rows), passing = sum(passes),
               failing = paste(row_name(rows$covariate, rows$level)[!passes], collapse = "; "))
  }))
}

#' @export
as.data.frame.twin_balance <- function(x, ...) x$rows

# Rows of one sample, of the whole study or of one group.
sample_rows <- function(x, sample, group = NA) {
  rows <- x$rows[x$rows$sample == sample, ]
  if (is.null(x$by)) rows else rows[rows$group %in% group, ]
}

# Names of the samples that a design made; "before" when there is none.
judged_samples <- function(x) {
  samples <- setdiff(x$totals$sample, "before")
  if (length(samples) > 0L) samples else "before"
}

#' @export
glance.twin_balance <- function(x, ...) {
  rlang::check_dots_empty()
  if (is.null(x$by)) return(glance_group(x))
  do.call(rbind, lapply(unique(x$totals$group), function(group) cbind(group = group, glance_group(x, group))))
}

# One row per judged sample, named where there are several; of the whole study by default.
glance_group <- function(x, group = NA) {
  rows <- do.call(rbind, lapply(judged_samples(x), function(sample) glance_sample(x, sample, group)))
  if (x$several) rows else rows[names(rows) != "sample"]
}

glance_sample <- function(x, sample, group = NA) {
  rows <- sample_rows(x, sample, group)
  rows <- rows[!uncounted(rows), ]
  worst <- which.max(abs(largest_smd(rows)))
  none <- length(worst) == 0L
  data.frame(
    sample = sample, rows = nrow(rows), passing = sum(rows$pass, na.rm = TRUE),
    worst_smd = if (none) NA_real_ else abs(largest_smd(rows)[worst]),
    worst_covariate = if (none) NA_character_ else row_name(rows$covariate[worst], rows$level[worst]),
    x$totals[x$totals$sample == sample & x$totals$group %in% group, c("ess_treated", "ess_control", "mahalanobis")],
    row.names = NULL
  )
}

# Rows of levels that only one arm has, while they are in.
uncounted <- function(rows) rows$one_arm & is.na(rows$pass)

#' @export
summary.twin_balance <- function(object, ...) {
  numbers <- glance_group(object)
  rows <- do.call(rbind, lapply(judged_samples(object), function(sample) sample_rows(object, sample)))
  facts <- c(as.list(numbers), list(undefined = sum(is.na(rows$smd) & !rows$one_arm),
                                    balanced = all(numbers$passing == numbers$rows)))
  structure(c(facts, list(words = format(object), numbers = numbers)), class = "twin_summary")
}
