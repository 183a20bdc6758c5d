#' Pair treated and control units
#'
#' Gives each treated unit its nearest controls (ATT), each control its nearest treated units (ATC), or, with
#' replacement, each unit of either arm its nearest of the other (ATE); see [Methods,
#' "Matching"](../doc/methods.html#matching). A unit that finds nobody falls out, and every later print says so.
#'
#' * `on = "score"`: |difference of the linear score|, or of the score itself (`"probability"`).
#' * `"mahalanobis"`: Mahalanobis distance of the covariates, with the (sampling-weighted) covariance of all units still
#'   in; a singular one is inverted as far as it goes, with a warning that names the columns. `"diagonal"`: differences
#'   divided by their standard deviations. A factor enters as indicators of its levels.
#' * `"metric"`: a metric of your own or from [search_metric()].
#'
#' Without replacement, `search = "greedy"` lets units choose in turn, and `"optimal"` finds as many pairs as the limits
#' allow with the least total distance, exactly: in the time of a sort on the score, by shortest augmenting paths
#' otherwise. Where many seek few, the optimal search has to look at nearly all distances and takes its time.
#'
#' Of several arms ([frame_arms()]) pairs for the ATT and ATC are made within each comparison with the reference. For
#' the ATE each unit of any arm, with replacement, gets its nearest in every other arm, on that arm's own score (Yang et
#' al. 2016) or on the covariates; who finds nobody in some arm is out of all contrasts.
#'
#' @param x A `twin_arms` of [frame_arms()] for the ATT, ATC or ATE, or a `twin_design` with a score; a `twin_study`
#'   will do when no score is needed. In a database ([remote_units()]) pairs are near on the score alone, and an `id`
#'   must name the units.
#' @param on What is to be near: `"score"` (default), `"probability"`, `"mahalanobis"`, `"diagonal"` or `"metric"`.
#' @param covariates For `"mahalanobis"` and `"diagonal"`: which of the study's covariates, names or a one-sided
#'   formula; all by default.
#' @param metric For `"metric"` (which it implies): weights of squared differences, named by covariate, by column
#'   (`"port_size: small"`) or `"score"` (the linear score); a named positive definite matrix; or a design from
#'   [search_metric()]. Left out, the design's own searched metric is used.
#' @param exact Names of columns of the data on which paired units must agree.
#' @param caliper Largest distances allowed, closed. One number limits the difference of linear scores, whatever `on`
#'   is. A named vector such as `c(score = 0.2, boat_length = 0.5, distance = 3)` limits several: `score`, numeric
#'   covariates, and `distance`, the distance that `on` names (never in sd). By default 0.2 (Austin 2011) for `"score"`
#'   and `"probability"`, none otherwise; `Inf` for none.
#' @param caliper_unit `"sd"` (default): calipers are in pooled standard deviations, sqrt((var1 + var0) / 2), of the
#'   linear score or covariate; `"raw"`: in their own units. Also a named vector.
#' @param apart Names of columns that paired units must not share, such as a family. A missing value is shared with
#'   nobody.
#' @param ratio Partners for each unit that seeks: a whole number k for exactly k (who finds fewer falls out), or
#'   `c(1, k)` for as many as there are, up to k. Default 1.
#' @param replacement May a unit be the partner of several? Default `FALSE`.
#' @param ties With replacement: `"all"` (default) keeps every unit as near as the last (within 1e-12, relative), each
#'   with an equal share; `"first"` takes the first in row order. Without replacement the first row wins.
#' @param search `"greedy"` (default) or `"optimal"`, without replacement.
#' @param order Who chooses first in a greedy search: `"hardest"` (default with a score; highest score first for the
#'   ATT, lowest first for the ATC), `"easiest"`, `"given"` (as the rows stand; default without a score), `"shuffled"`
#'   (needs `seed`), or `"closest_pair"` (the closest pair of all, then the closest of the rest).
#' @param seed A whole number for `order = "shuffled"`. The random stream of the session is left as it was.
#' @param spread For `"mahalanobis"`: covariance of `"all"` units (default), or pooled `"within"` the arms (two of
#'   them).
#' @return A `twin_design` with pairs. [pairs_of()] lists them; `tidy(x, part = "reuse")` tells how often each partner
#'   is used; `tidy(x, part = "unmatched")` gives the row, arm and reason of each unit left out, by trimming too;
#'   `plot(x)` shows who was matched, `plot(x, view = "distances")` how near, `plot(x, view = "pairs")` who with whom.
#' @section Errors: `twin_error_input` without a score where one is needed, for a caliper of 0 or less, missing values
#'   in an exact column, unknown names, options that have no use together, or when no pair is left;
#'   `twin_error_unsupported` for estimands that pairs do not answer, or when an optimal search needs more memory than
#'   it should.
#' @section Warnings: `twin_warning_constant` and `twin_warning_singular` (field `columns`);
#'   `twin_warning_short_of_partners` where units are out that found some partners, but fewer than `ratio`;
#'   `twin_warning_unused` for an `order` with replacement.
#' @references Abadie, A., Imbens, G. W. (2006). Large sample properties of matching estimators for average treatment
#'   effects. Econometrica 74. \doi{10.1111/j.1468-0262.2006.00655.x}
#'
#'   Austin, P. C. (2011). Optimal caliper widths for propensity-score matching. Pharmaceutical Statistics 10.
#'   \doi{10.1002/pst.433}
#'
#'   Jonker, R., Volgenant, A. (1987). A shortest augmenting path algorithm for dense and sparse linear assignment
#'   problems. Computing 38. \doi{10.1007/BF02278710}
#'
#'   Yang, S., Imbens, G. W., Cui, Z., Faries, D. E., Kadziola, Z. (2016). Propensity score matching and
#'   subclassification in observational studies with multi-level treatments. Biometrics 72. \doi{10.1111/biom.12505}
#' @family design
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' design <- study |> score_units() |> pair_units(caliper = 0.2)
#' design
#' head(pairs_of(design))
#' study |> score_units() |>
#'   pair_units(on = "mahalanobis", exact = "port_size", caliper = 0.2, ratio = c(1, 2), search = "optimal")
#' pair_units(study, on = "mahalanobis", replacement = TRUE)
#' arms <- frame_arms(crews, treatment = "gear", outcome = "income", reference = "pots", estimand = "ATE",
#'                    covariates = ~ boat_length + crew_size)
#' arms |> score_units() |> pair_units(replacement = TRUE)
#' @export
pair_units <- function(x, on = c("score", "probability", "mahalanobis", "diagonal", "metric"), covariates = NULL,
                       metric = NULL, exact = NULL, apart = NULL, caliper = NULL, caliper_unit = "sd", ratio = 1,
                       replacement = FALSE, spread = c("all", "within"),
                       order = c("hardest", "easiest", "given", "shuffled", "closest_pair"),
                       ties = c("all", "first"), search = c("greedy", "optimal"), seed = NULL) {
  if (is_imputed(x)) return(in_each_set(x, pair_units, match.call()))
  again <- given_arguments(match.call())
  if (is_arms(x) && !seeks_everybody(x)) {
    return(remember(in_each_contrast(x, "pair", match.call()), x, "pair", again))
  }
  check_matching_start(x, "pair_units")
  check_flag(replacement)
  given <- names(match.call())[-1L]
  if (is_remote(x)) {
    pulled <- pulled_design(x, on, caliper, given, rlang::current_env())
    return(new_remote_pairs(do.call(pair_units, c(list(pulled), again)), x))
  }
  settings <- check_space(x, on, covariates, metric, spread, given)
  if (needs_score(settings)) check_matching_score(x, "pair_units")
  if (replacement && "order" %in% given) {
    warn_kind("unused", c("{.arg order} has no use with {.code replacement = TRUE}: each unit gets its nearest, whoever
                           comes first."))
  }
  refuse_stray(setdiff(intersect(given, c("search", "seed")), if (!replacement) given),
               cli::format_inline("{.code replacement = TRUE}"), call = rlang::current_env())
  refuse_stray(if (!replacement) intersect(given, "ties"), cli::format_inline("{.code replacement = FALSE}"),
               call = rlang::current_env())
  settings <- c(settings, list(
    exact = exact, apart = apart, ratio = check_ratio(ratio, length(study_of(x)$z)), replacement = replacement,
    ties = check_choice(ties, c("all", "first")), search = check_choice(search, c("greedy", "optimal")),
    order = check_order(order, "order" %in% given, x), seed = seed
  ))
  check_order_use(settings, given)
  check_pair_estimand(study_of(x)$estimand, replacement)
  if (is_arms(x)) return(remember(pair_arms(x, settings, caliper, caliper_unit), x, "pair", again))
  settings$calipers <- check_calipers(x, caliper, caliper_unit, settings$on)
  remember(paired_design(x, settings), x, "pair", again)
}

# Studies and designs of two arms without pairs or weights, or several arms without designs.
check_matching_start <- function(x, verb, call = rlang::caller_env()) {
  if (is_arms(x)) return(check_arms_undesigned(x, verb, call))
  check_design(x, "x", call, remote = TRUE)
  check_undesigned(x, verb, call)
}

check_matching_score <- function(x, verb, call = rlang::caller_env()) {
  if (is_arms(x)) check_arms_scored(x, verb, call) else check_score(x, verb, call)
}

paired_design <- function(x, settings, call = rlang::caller_env()) {
  made <- make_pairs(x, settings, call)
  if (nrow(made$pairs) == 0L) stop_no_pairs(x, settings, made, call)
  warn_short_of_partners(made, settings$ratio)
  design_from_pairs(x, made, pair_step(settings), "pair")
}

# Who is out only because others took what a fixed number of partners each needs.
warn_short_of_partners <- function(made, ratio) {
  most <- ratio[["most"]]
  short <- sum(made$reason %in% match("too few partners left", unmatched_reasons))
  if (ratio[["least"]] < 2L || short == 0L) return(invisible(made))
  warn_kind("short_of_partners", c(
    "{count_text(short)} {cli::qty(short)}unit{?s} found some partners, but fewer than {ratio[['least']]}, and {?is/are}
     out.",
    i = "{.code ratio = c(1, {most})} keeps {cli::qty(short)}{?it/them} with as many as there are."
  ), units = short)
}

# on, covariates, metric and spread as a list, each only where it has a use.
check_space <- function(x, on, covariates, metric, spread, given, call = rlang::caller_env()) {
  choices <- c("score", "probability", "mahalanobis", "diagonal", "metric")
  on <- if (!"on" %in% given && !is.null(metric)) "metric" else check_choice(on, choices, call = call)
  spread <- check_choice(spread, c("all", "within"), call = call)
  if (seeks_everybody(x)) {
    refuse_stray(intersect(given, "spread"), "matches of everybody among several arms", call = call)
  }
  useful <- list(mahalanobis = c("covariates", "spread"), diagonal = "covariates", metric = "metric")[[on]]
  refuse_stray(setdiff(intersect(given, c("covariates", "metric", "spread")), useful),
               cli::format_inline("{.code on = \"{on}\"}"), call = call)
  if (on == "metric") metric <- check_own_metric(x, metric, call)
  list(on = on, covariates = covariates, metric = metric, spread = if (on == "mahalanobis") spread)
}

check_own_metric <- function(x, metric, call) {
  if (is.null(metric) && inherits(x, "twin_design")) metric <- x$metric$weights
  if (is.null(metric)) {
    abort_input(c("{.code on = \"metric\"} needs a {.arg metric}.", i = "Name one, or call {.fn search_metric} first."),
                call = call)
  }
  check_metric(metric, call)
}

# units: how many there are, more than which nobody can have.
check_ratio <- function(ratio, units, call = rlang::caller_env()) {
  if (is.list(ratio) && !is.data.frame(ratio)) ratio <- unlist(ratio)
  whole <- is.numeric(ratio) && length(ratio) %in% 1:2 && all(is.finite(ratio)) && all(ratio == round(ratio))
  if (whole && all(ratio >= 1 & ratio <= units) && !is.unsorted(ratio)) return(c(least = min(ratio), most = max(ratio)))
  abort_input(c("{.arg ratio} must be one whole number, or the least and the most partners of a unit, from 1 to
                 {units}.",
                x = "It is {describe_value(ratio)}.", i = "For example 2, or c(1, 3)."), call = call)
}

check_order <- function(order, given, x, call = rlang::caller_env()) {
  order <- check_choice(order, c("hardest", "easiest", "given", "shuffled", "closest_pair"), call = call)
  if (!is.null(design_score(x)) || order %in% c("given", "shuffled", "closest_pair")) return(order)
  if (!given) return("given")
  abort_input(c("{.code order = \"{order}\"} needs a propensity score.", i = "Call {.fn score_units} first."),
              call = call)
}

check_order_use <- function(settings, given, call = rlang::caller_env()) {
  if (settings$search == "optimal") {
    refuse_stray(intersect(given, c("order", "seed")), cli::format_inline("{.code search = \"optimal\"}"), call = call)
  }
  check_order_seed(settings$seed, settings$order, call)
}

check_order_seed <- function(seed, order, call = rlang::caller_env()) {
  check_seed(seed, null = TRUE, call = call)
  if (order == "shuffled" && is.null(seed)) {
    abort_input("{.code order = \"shuffled\"} needs a {.arg seed}, so that the pairs can be made again.", call = call)
  }
  if (order != "shuffled" && !is.null(seed)) {
    abort_input("{.arg seed} has no use with {.code order = \"{order}\"}; leave it out.", call = call)
  }
}

check_pair_estimand <- function(estimand, replacement, call = rlang::caller_env()) {
  population <- population_of(estimand)
  if (population %in% c("treated", "control") || (population == "everybody" && replacement)) {
    return(invisible(estimand))
  }
  abort_unsupported(c(
    "Pairing without replacement can't answer the {estimand}.",
    x = "Each pair stands for its treated unit (ATT) or its control unit (ATC).",
    i = if (population == "everybody") "Use {.code replacement = TRUE}, {.code group_units(x, \"full\")} or
         {.fn weigh_units} for the ATE, or frame the study for the ATT." else
           "Frame the study for the ATT, or use {.fn weigh_units} for the {estimand}."
  ), call = call)
}

# A data frame of name, width (raw) and shown (as given), one row per caliper.
check_calipers <- function(x, caliper, unit, on, call = rlang::caller_env()) {
  caliper <- named_calipers(caliper, on, call)
  unit <- caliper_units(unit, names(caliper), call)
  rows <- lapply(names(caliper), function(name) {
    check_number(caliper[[name]], min = 0, open = TRUE, infinite = TRUE, arg = "caliper", call = call)
    if (is.infinite(caliper[[name]])) return(NULL)
    size <- if (name == "distance" || unit[[name]] == "raw") 1 else caliper_sd(x, name)
    data.frame(name = name, width = caliper[[name]] * size, shown = caliper[[name]],
               unit = if (name == "distance") "raw" else unit[[name]])
  })
  limiting <- names(caliper)[is.finite(unlist(caliper))]
  for (name in setdiff(limiting, "distance")) caliper_values(x, name, call)
  do.call(rbind, rows)
}

named_calipers <- function(caliper, on, call) {
  if (is.null(caliper)) return(if (on %in% c("score", "probability")) list(score = 0.2) else list())
  if (identical(caliper, list())) return(caliper)
  plain <- (is.numeric(caliper) && is.null(dim(caliper))) || (is.list(caliper) && !is.data.frame(caliper))
  if (plain && is.numeric(caliper)) {
    caliper <- as.list(caliper)
    if (length(caliper) == 1L && is.null(names(caliper))) names(caliper) <- "score"
  }
  if (plain && length(caliper) > 0L && is_named_list(caliper) && !anyDuplicated(names(caliper))) return(caliper)
  abort_input(c("{.arg caliper} must be one number, or numbers with the names of what they limit.",
                i = "For example 0.2, or c(score = 0.2, boat_length = 0.5)."), call = call)
}

caliper_units <- function(unit, names, call) {
  unit <- if (is.list(unit) || is.character(unit)) unlist(unit) else unit
  if (!is.character(unit) || length(unit) == 0L) {
    abort_input(c("{.arg caliper_unit} must be \"sd\" or \"raw\", or several of them named as {.arg caliper} is.",
                  x = "It is {describe_value(unit)}."), call = call)
  }
  for (one in unit) check_choice(one, c("sd", "raw"), "caliper_unit", call)
  if (is.null(names(unit))) unit <- stats::setNames(rep_len(unit, length(names)), names)
  stray <- setdiff(names(unit), names)
  if (length(stray) > 0L) {
    abort_input("{.arg caliper_unit} names {.val {stray}}, which {.arg caliper} does not.", call = call)
  }
  full <- stats::setNames(rep("sd", length(names)), names)
  full[names(unit)] <- unit
  full
}

# The numbers a caliper limits, one per row of the study.
caliper_values <- function(x, name, call) {
  study <- study_of(x)
  if (name == "score") {
    check_score(x, "pair_units", call)
    return(x$score$linear)
  }
  column <- study$columns[[name]]
  if (is.null(column)) {
    near <- nearest_name(name, c("score", "distance", names(study$columns)))
    abort_input(c("{.arg caliper} must name {.val score}, {.val distance} or numeric covariates.",
                  x = "There is no {.val {name}}.", i = if (!is.null(near)) "Did you mean {.val {near}}?"),
                unknown = name, call = call)
  }
  if (column$kind == "factor") {
    abort_input(c("A {.arg caliper} needs numbers.", x = "{.val {name}} has levels.", i = "Use {.arg exact} for it."),
                column = name, call = call)
  }
  column$values
}

caliper_sd <- function(x, name, call = rlang::caller_env(2)) {
  kept <- design_kept(x)
  core_pooled_sd(caliper_values(x, name, call)[kept], study_of(x)$z[kept], kept_weight(x)[kept])
}

pair_step <- function(settings) {
  used <- settings[c("on", "covariates", "metric", "spread", "exact", "apart", "replacement")]
  used$ratio <- unname(settings$ratio)
  used$calipers <- settings$calipers
  if (settings$replacement) {
    used$ties <- settings$ties
  } else {
    used$search <- settings$search
    if (settings$search == "greedy") used[c("order", "seed")] <- settings[c("order", "seed")]
  }
  c(list(verb = "pair", label = pair_label(settings)), used[!vapply(used, is.null, NA)])
}

pair_label <- function(settings) {
  ratio <- settings$ratio
  words <- c(
    on_label(settings$on),
    if (ratio[["most"]] > 1) ratio_label(ratio),
    if (settings$replacement) "with replacement" else if (settings$search == "optimal") "optimal",
    if (!is.null(settings$exact)) paste("exact on", and_list(settings$exact)),
    if (!is.null(settings$apart)) paste("apart by", and_list(settings$apart)),
    caliper_label(settings$calipers)
  )
  sprintf("pairs (%s)", paste(words, collapse = ", "))
}

# The distance in the label of a design; the linear score goes without saying.
on_label <- function(on) {
  switch(on, score = NULL, probability = "on the score", mahalanobis = "Mahalanobis", diagonal = "diagonal",
         metric = "given metric")
}

ratio_label <- function(ratio) {
  if (ratio[["least"]] == ratio[["most"]]) return(sprintf("%d each", ratio[["most"]]))
  sprintf("%s%d each", if (ratio[["least"]] == 1) "up to " else sprintf("%d to ", ratio[["least"]]), ratio[["most"]])
}

caliper_label <- function(calipers) {
  if (is.null(calipers)) return("no caliper")
  one <- sprintf("%s%s%s", ifelse(calipers$name == "score", "", paste0(calipers$name, " ")),
                 vapply(calipers$shown, format, ""), ifelse(calipers$unit == "sd", " sd", ""))
  paste("caliper", paste(ifelse(calipers$unit == "raw" & calipers$name == "score", paste0(one, ", raw"), one),
                         collapse = ", "))
}
