#' Measure the effect along a dose
#'
#' Opens the outcome and estimates its mean were every unit given a dose, for all doses ([Methods,
#' "Dose"](../doc/methods.html#dose)), with contrasts between doses, the average slope, and a test that the curve is
#' flat.
#'
#' * `"weighted"`: a curve through the outcomes, weighted by the design; the raw curve without weights.
#' * `"augmented"`: a model of the outcome in dose and covariates, averaged over all units at each dose, and the
#'   weighted curve of what it leaves (Kennedy, Ma, McHugh & Small 2017): right when either weights or model are.
#'   Without weights it is the model, corrected by the raw curve of what it leaves.
#'
#' A dose counts as supported where 95 per cent of the units could have had it (it lies within three standard deviations
#' of what their score foretells; entropy weights tell nothing of that) and at least 10 effective units are within a
#' twentieth of the range of doses. Beyond it curves are drawn dotted and contrasts raise a warning.
#'
#' @param x A `twin_dose` of [frame_dose()], with or without weights.
#' @param outcome Name of the outcome; the first by default.
#' @param estimator `"weighted"` (default) or `"augmented"`.
#' @param curve `"spline"` (default): a natural spline of the dose with `knots` inner knots at its quantiles (of the
#'   doses between the least and the largest, where many units have either); `"local"`: local lines of a normal kernel
#'   of `bandwidth`.
#' @param knots Number of inner knots of the spline; 0 is a straight line. By default the fifth root of the number of
#'   units with a known outcome (4 for 1,000, 10 for 100,000), and no more than there are different doses for. Fewer
#'   leave a bias that does not shrink as units are added: bands then miss a bent curve.
#' @param bandwidth Of local lines, in units of the dose; by default chosen by leave-one-out error. Standard errors take
#'   it as given, and are about the smoothed curve.
#' @param model For `"augmented"`: a one-sided formula of the model's covariates; the study's own by default.
#' @param products For `"augmented"`: let the slope of the dose differ by covariates (products of each with the dose)?
#'   Default `TRUE`.
#' @param family For `"augmented"`: `"gaussian"`, `"binomial"`, `"poisson"` or `"fractional"`; by default binomial for
#'   outcomes that are 0/1, gaussian for others.
#' @param doses Where the curve is told: increasing numbers within the range of the dose; by default 25 between its 2%
#'   and 98% quantiles (both values of a dose of two).
#' @param contrasts Pairs of doses to compare: a list of two numbers each, such as `list(c(0, 5))`, named if you like;
#'   by default the upper against the lower quartile. The first leads.
#' @param cluster Name of a column of clusters in place of the study's.
#' @param level Confidence level, default 0.95.
#' @param seed For the bands: one number, default 1.
#' @return A `twin_response`. `tidy()`: `dose`, `estimate`, `std.error`, `conf.low`, `conf.high`, `band.low`,
#'   `band.high` (holding the whole supported curve at once), `effective` (units near it), `reach` (share of units that
#'   could have had it), `supported`. `tidy(x, part = "contrasts")`: `contrast`, `from`, `to`, `estimate` (mean at `to`
#'   less mean at `from`), `std.error`, `statistic`, `p.value`, `conf.low`, `conf.high`. `tidy(x, part = "slope")`: the
#'   average slope over the units' doses, likewise. `glance()`: `outcome`, `estimator`, `curve`, `nobs`,
#'   `average_slope`, `std.error`, `p.value`, `p_flat` (joint test that the mean is the same at up to five supported
#'   doses, between the tenths of all where there are many; like the band it is read by how few units the curve rests
#'   on), `worst_correlation`, `df`. `augment()` gives units' influence contributions on the contrasts and the slope.
#' @section Errors: `twin_error_input` for doses outside the range, contrasts of one dose, too few different doses for
#'   the knots, or missing outcomes everywhere; `twin_warning_support` for contrasts beyond the supported doses.
#' @references Kennedy, E. H., Ma, Z., McHugh, M. D., Small, D. S. (2017). Non-parametric methods for doubly robust
#'   estimation of continuous treatment effects. JRSS B 79. \doi{10.1111/rssb.12212}
#'
#'   Hirano, K., Imbens, G. W. (2004). The propensity score with continuous treatments. In Applied Bayesian Modeling and
#'   Causal Inference from Incomplete-Data Perspectives. \doi{10.1002/0470090456.ch7}
#'
#'   Vegetabile, B. G., Griffin, B. A., Coffman, D. L., Cefalu, M., Robbins, M. W., McCaffrey, D. F. (2021).
#'   Nonparametric estimation of population average dose-response curves using entropy balancing weights for continuous
#'   exposures. Health Services and Outcomes Research Methodology 21. \doi{10.1007/s10742-020-00236-2}
#' @family effects
#' @examples
#' study <- frame_dose(ice, dose = "tonnes", outcome = "income",
#'                     covariates = ~ boat_length + crew_size + port_size + past_income)
#' design <- study |> score_units() |> weigh_units()
#' response <- measure_response(design, estimator = "augmented", contrasts = list(c(1, 4)))
#' response
#' tidy(response, part = "contrasts")
#' plot(response)
#' @export
measure_response <- function(x, outcome = NULL, estimator = c("weighted", "augmented"), curve = c("spline", "local"),
                             knots = NULL, bandwidth = NULL, model = NULL, products = TRUE, family = NULL, doses = NULL,
                             contrasts = NULL, cluster = NULL, level = 0.95, seed = 1) {
  if (is_imputed(x)) return(in_each_set(x, measure_response, match.call()))
  call <- rlang::current_env()
  check_class(x, "twin_dose", "frame_dose")
  given <- names(Filter(Negate(is.null), given_arguments(match.call())))
  asked <- list(
    outcome = check_outcomes_asked(outcome, x$base), estimator = check_choice(estimator, names(response_estimators)),
    curve = check_choice(curve, c("spline", "local")), knots = knots, bandwidth = bandwidth, model = model,
    products = products, family = family, doses = doses, contrasts = contrasts, cluster = as_given(cluster),
    level = level,
    seed = seed
  )
  asked <- check_response(x, asked, given, call)
  y <- open_outcome(x$base, asked$outcome, "measure_response")
  made <- with_cautions(respond_to_dose(x, y, asked, call), x$cautions)
  log_once(x$base, "measure", sprintf("%s curve of %s, %s", asked$estimator, asked$outcome, question_label(x)),
           settings = list(curve = asked$curve))
  made
}

check_response <- function(x, asked, given, call) {
  if (length(asked$outcome) != 1L) abort_input("{.arg outcome} must be one outcome.", call = call)
  check_count(asked$knots, min = 0, max = 20, null = TRUE, arg = "knots", call = call)
  check_number(asked$bandwidth, min = 0, open = TRUE, null = TRUE, arg = "bandwidth", call = call)
  check_flag(asked$products, arg = "products", call = call)
  check_level(asked$level, call = call)
  check_seed(asked$seed, call = call)
  stray <- c(if (asked$curve == "spline") "bandwidth", if (asked$curve == "local") "knots")
  refuse_stray(intersect(given, stray), sprintf("curve = \"%s\"", asked$curve), call = call)
  refuse_stray(strays_of(asked$estimator, response_estimators, given), sprintf("estimator = \"%s\"", asked$estimator),
               call = call)
  if (!is.null(asked$family)) {
    asked$family <- check_choice(asked$family, c("gaussian", "binomial", "poisson", "fractional"), "family", call)
  }
  asked$contrasts <- dose_contrasts(x, asked$contrasts, call)
  asked$doses <- told_doses(x, asked$doses, call)
  asked$clusters <- effect_clusters(x$base, asked$cluster, call)
  if (length(asked$clusters$codes) > 1L) abort_unsupported("Curves cluster by one column.", call = call)
  asked
}

told_doses <- function(x, doses, call) {
  d <- x$d[dose_weight(x) > 0]
  values <- sort(unique(d))
  if (is.null(doses)) {
    if (length(values) <= 25L) return(values)
    ends <- core_weighted_quantiles(x$d, sampling_weight(x$base), c(0.02, 0.98))
    if (ends[1L] == ends[2L]) ends <- range(d)
    return(seq(ends[1L], ends[2L], length.out = 25L))
  }
  check_numbers(doses, "increasing numbers", arg = "doses", call = call)
  if (is.unsorted(doses, strictly = TRUE) || length(doses) < 2L) {
    abort_input("{.arg doses} must be at least two increasing numbers.", call = call)
  }
  check_doses_inside(doses, d, "doses", call)
  as.double(doses)
}

check_doses_inside <- function(doses, d, arg, call) {
  outside <- doses[doses < min(d) | doses > max(d)]
  if (length(outside) == 0L) return(invisible(doses))
  abort_input(c("{.arg {arg}} must lie where units have doses: between {signif(min(d), 4)} and {signif(max(d), 4)}.",
                x = "Outside: {signif(outside[seq_len(min(3, length(outside)))], 4)}. No data tell of such doses."),
              doses = outside, call = call)
}

# A data frame of contrast, from, to.
dose_contrasts <- function(x, contrasts, call) {
  d <- x$d[dose_weight(x) > 0]
  if (is.null(contrasts)) {
    ends <- core_weighted_quantiles(x$d, sampling_weight(x$base), c(0.25, 0.75))
    if (ends[1L] == ends[2L]) ends <- range(d)
    contrasts <- list(ends)
  }
  if (is.numeric(contrasts)) contrasts <- list(contrasts)
  good <- is.list(contrasts) && length(contrasts) > 0L && all(vapply(contrasts, function(pair) {
    is_plain_numbers(pair) && length(pair) == 2L && all(is.finite(pair)) && pair[1L] != pair[2L]
  }, NA))
  if (!good) {
    abort_input(c("{.arg contrasts} must be pairs of different doses.", i = "For example list(c(0, 5))."), call = call)
  }
  check_doses_inside(unlist(contrasts), d, "contrasts", call)
  ends <- matrix(unlist(contrasts), ncol = 2L, byrow = TRUE)
  plain <- sprintf("%s to %s", trimws(format(ends[, 1L], digits = 4)), trimws(format(ends[, 2L], digits = 4)))
  names <- names(contrasts)
  if (is.null(names)) names <- rep("", length(plain))
  data.frame(contrast = make.unique(ifelse(nzchar(names), names, plain)), from = ends[, 1L], to = ends[, 2L])
}

# The curve and what is read off it.
respond_to_dose <- function(x, y, asked, call) {
  study <- x$base
  y <- structure(as.double(y), shares = attr(y, "shares"))
  used <- !is.na(y)
  s <- sampling_weight(study) * used
  if (sum(s > 0) < 10L) {
    abort_input("Only {sum(s > 0)} unit{?s} {?has/have} a known {.val {asked$outcome}}.", call = call)
  }
  filled <- ifelse(used, y, 0)
  weight <- if (is.null(x$weight)) rep(1, length(s)) else x$weight
  places <- sort(unique(c(asked$doses, asked$contrasts$from, asked$contrasts$to)))
  if (is.null(asked$knots)) asked$knots <- usual_knots(x$d[s > 0])
  asked$middle <- core_weighted_quantiles(x$d[s > 0], s[s > 0], c(0.1, 0.9))
  smooth <- dose_smoother(x, places, s, weight, filled, asked, call)
  models <- response_estimators[[asked$estimator]]$models
  model <- if (models) dose_model(x, filled, s, places, asked, attr(y, "shares"), call)
  found <- core_response_curve(filled, s, weight, x$nuisance, smooth$smooth, model)
  of_curve <- match(asked$doses, places)
  slope <- core_mean_slope(found$estimate[of_curve], asked$doses, x$d, s)
  each <- diag(length(places))
  ends <- match(unlist(asked$contrasts[1L, c("to", "from")]), places)
  reads <- rbind(each[of_curve, , drop = FALSE], contrast_rows_of(asked$contrasts, places), each[ends, ],
                 replace(numeric(length(places)), of_curve, slope$weights))
  influence <- found$influence %*% t(reads)
  last <- ncol(influence)
  influence[, last] <- influence[, last] + slope$influence
  inference <- response_vcov(influence, study, used & s > 0, asked, call)
  new_response(x, asked, drop(reads %*% found$estimate), influence, inference, used & s > 0,
               c(smooth[c("words", "width")], list(model = attr(model, "words"), y = y, s = s, weight = weight)))
}

contrast_rows_of <- function(contrasts, places) {
  out <- matrix(0, nrow(contrasts), length(places))
  out[cbind(seq_len(nrow(contrasts)), match(contrasts$to, places))] <- 1
  out[cbind(seq_len(nrow(contrasts)), match(contrasts$from, places))] <- -1
  out
}

# list(smooth: see core_response_curve(), words, width).
dose_smoother <- function(x, places, s, weight, y, asked, call) {
  d <- x$d
  if (asked$curve == "local") {
    if (length(unique(d)) < 4L) {
      abort_input("Local lines need at least 4 different doses; this one has {length(unique(d))}.", call = call)
    }
    width <- if (is.null(asked$bandwidth)) core_local_width(y, d, s * weight) else asked$bandwidth
    return(list(words = sprintf("local lines (bandwidth %s)", number_text(width)), width = width,
                smooth = function(y, v, carry) core_local_curve(y, d, places, width, v, s, carry)))
  }
  basis <- dose_basis(d, s, asked$knots, call)
  list(words = basis$words, width = NA_real_,
       smooth = function(y, v, carry) core_curve_at(y, basis$of(d), basis$of(places), v, s, carry))
}

# A natural spline of the dose; as many values as knots allow tell it.
dose_basis <- function(d, s, knots, call) {
  values <- length(unique(d[s > 0]))
  if (values < 2L) {
    abort_input("All units of known outcome have the dose {signif(d[s > 0][1L], 4)}: no data tell of another.",
                call = call)
  }
  if (values == 2L) return(list(of = function(at) cbind(1, at), words = "through both of its values"))
  if (knots + 2L > values) {
    abort_input(c("{knots} knot{?s} need at least {knots + 2} different doses; there are {values}.",
                  i = "Use fewer {.arg knots}."), call = call)
  }
  if (knots == 0) return(list(of = function(at) cbind(1, at), words = "a straight line"))
  placed <- place_knots(d[s > 0], s[s > 0], knots)
  list(of = function(at) cbind(1, spline_columns(at, placed)),
       words = sprintf("a natural spline with %s at %s", plural(length(placed$inner), "inner knot"),
                       and_list(number_text(placed$inner))))
}

dose_model <- function(x, y, s, places, asked, shares, call) {
  study <- x$base
  terms <- model_terms(study, asked$model, call)
  matrix <- terms_matrix(study, terms)
  basis <- dose_basis(x$d, s, asked$knots, call)
  bend <- function(d) basis$of(d)[, -1L, drop = FALSE]
  design <- function(d) {
    own <- cbind(bend(d), matrix)
    if (asked$products && ncol(matrix) > 0L) cbind(own, matrix * d) else own
  }
  family <- if (!is.null(asked$family)) asked$family else if (shares) "binomial" else "gaussian"
  check_dose_family(family, y[s > 0], asked$outcome, call)
  model <- core_dose_model(y, x$d, s, places, design, family)
  if (model$status != "converged") {
    abort_convergence(c("The model of the outcome did not converge.",
                        i = "Use {.code products = FALSE}, fewer {.arg knots}, or another {.arg family}."),
                      call = call)
  }
  structure(model, words = family)
}

check_dose_family <- function(family, y, outcome, call) {
  fine <- switch(family, gaussian = TRUE, binomial = all(y %in% 0:1), fractional = all(y >= 0 & y <= 1),
                 poisson = all(y >= 0))
  if (fine) return(invisible(family))
  abort_input(c("The family {.val {family}} does not fit the outcome {.val {outcome}}.",
                x = "It runs from {signif(min(y), 4)} to {signif(max(y), 4)}."), call = call)
}

response_vcov <- function(influence, study, used, asked, call) {
  cluster <- if (length(asked$clusters$codes) > 0L) asked$clusters$codes[[1L]]
  if (!is.null(cluster)) check_cluster_count(cluster[used], asked$clusters$name, call, "")
  out <- core_vcov(influence, cluster, study$stratum, used)
  if (!is.null(out$lonely)) {
    stop_lonely(attr(study$stratum, "labels")[as.integer(out$lonely)], study, is.null(cluster), call)
  }
  strata <- if (is.null(study$stratum)) 1L else length(unique(study$stratum[used]))
  list(vcov = out$vcov,
       df = if (is.null(cluster) && is.null(study$stratum)) Inf else core_known_df(out$clusters - strata),
       text = paste0(if (is.null(cluster)) "robust" else
         sprintf("clustered by %s (%d)", asked$clusters$name, out$clusters),
         if (!is.null(study$stratum)) sprintf(", within %s", study$roles$stratum)))
}

new_response <- function(x, asked, values, influence, inference, used, facts) {
  study <- x$base
  v <- facts$s * facts$weight
  support <- response_support(x, asked$doses, v)
  ends <- unlist(asked$contrasts[c("from", "to")])
  warn_unsupported(ends[!response_support(x, ends, v)$supported])
  pairs <- nrow(asked$contrasts)
  cluster <- if (length(asked$clusters$codes) > 0L) asked$clusters$codes[[1L]]
  numbers <- curve_numbers(influence[, seq_along(asked$doses), drop = FALSE], supported_places(support, asked)$few,
                           cluster)
  structure(c(response_tables(asked, support, values, inference$vcov, inference$df, numbers), list(
    numbers = numbers, study = study, dose = study$roles$treatment, outcome = asked$outcome,
    estimator = asked$estimator, values = values, vcov = inference$vcov, df = inference$df,
    inference = inference$text, level = asked$level, words = facts$words, family = facts$model,
    weighted = !is.null(x$weight), design = question_label(x), worst = worst_correlation(x),
    counts = c(used = sum(used), missing = sum(is.na(facts$y))), outcome_sd = outcome_spread(facts$y, facts$s),
    influence = influence[, c(length(asked$doses) + seq_len(pairs), ncol(influence)), drop = FALSE], used = used,
    shares = attr(facts$y, "shares"), source = list(x = x, asked = asked), pooling = NULL, cautions = character()
  )), class = "twin_response")
}

# values: of the curve at the doses told, the contrasts, both ends of the first and the average slope, with their
# covariance. df: one, or one for each. numbers: see curve_numbers().
response_tables <- function(asked, support, values, vcov, df, numbers) {
  count <- length(asked$doses)
  rows <- estimate_rows(values, sqrt(diag(vcov)), df, asked$level)
  told <- supported_places(support, asked)
  least <- core_least_df(df)
  ends <- length(values) - 2:1
  critical <- uniform_quantile(vcov[told$inside, told$inside, drop = FALSE], asked$level, least, asked$seed)
  quantile <- core_dose_quantile(critical, least, numbers$each)
  own <- rows[seq_len(count), c("estimate", "std.error", "conf.low", "conf.high")]
  curve <- data.frame(dose = asked$doses, own, band.low = own$estimate - quantile * own$std.error,
                      band.high = own$estimate + quantile * own$std.error, support)
  read <- function(at) {
    own <- rows[at, ]
    data.frame(own[c("estimate", "std.error")], statistic = own$estimate / own$std.error,
               own[c("p.value", "conf.low", "conf.high")], row.names = NULL)
  }
  list(curve = curve, contrasts = cbind(asked$contrasts, read(count + seq_len(nrow(asked$contrasts)))),
       slope = read(length(values)), ratio = ratio_of_means(values[ends], vcov[ends, ends], least, asked$level),
       flat = core_flat_test(values[told$few], vcov[told$few, told$few, drop = FALSE], min(least + 1, numbers$flat)),
       flat_doses = asked$doses[told$few])
}

# Places of the doses that have support (all, where fewer than 2 have), and of the few of them that the test that the
# curve is flat compares: no more than the curve has bends, evenly spaced, and between the tenths of the doses where
# there are many, as weights lean on few units beyond.
supported_places <- function(support, asked) {
  inside <- which(support$supported)
  if (length(inside) < 2L) inside <- seq_along(support$supported)
  points <- if (asked$curve == "spline") min(5L, asked$knots + 2L) else 5L
  doses <- asked$doses[inside]
  few <- inside[doses >= asked$middle[1L] & doses <= asked$middle[2L]]
  if (length(few) < points) few <- inside
  list(inside = inside, few = few[unique(round(seq(1, length(few), length.out = min(points, length(few)))))])
}

# On how many units (clusters) the curve rests: each, at each dose told; flat, over the few of them that the test that
# it is flat compares.
curve_numbers <- function(influence, few, cluster) {
  sums <- if (is.null(cluster)) influence else rowsum(influence, cluster)
  list(each = apply(sums^2, 2L, core_effective_size),
       flat = core_effective_size(core_path_lengths(sums[, few, drop = FALSE])))
}

# The first of two means over the second, its interval by the log; NA where one is not above 0.
ratio_of_means <- function(means, vcov, df, level) {
  if (any(means <= 0)) return(list(estimate = NA_real_, conf.low = NA_real_, conf.high = NA_real_))
  slopes <- c(1, -1) / means
  se <- sqrt(drop(slopes %*% vcov %*% slopes))
  as.list(exp(estimate_rows(-diff(log(means)), se, df, level)[c("estimate", "conf.low", "conf.high")]))
}

# Rubin's rules for the curve as for effects.
#' @exportS3Method
over_sets.twin_response <- function(first, results) { # nolint: object_name_linter. An S3 method.
  pooled <- core_pool(do.call(rbind, lapply(results, `[[`, "values")), lapply(results, `[[`, "vcov"), first$df)
  numbers <- lapply(c(each = "each", flat = "flat"), function(name) {
    Reduce(pmin, lapply(results, function(result) result$numbers[[name]]))
  })
  tables <- response_tables(first$source$asked, first$curve[c("effective", "reach", "supported")],
                            unname(pooled$estimate), pooled$vcov, unname(pooled$df), numbers)
  lead <- nrow(first$curve) + 1L
  made <- do.call(amend, c(list(first), tables))
  amend(made, values = unname(pooled$estimate), vcov = pooled$vcov, df = unname(pooled$df),
        inference = paste0(first$inference, if (length(results) > 1L) sprintf(", pooled over %d imputed data sets",
                                                                              length(results))),
        worst = max(vapply(results, `[[`, 0, "worst")), influence = Reduce(`+`, lapply(results, `[[`, "influence")) /
          length(results), pooling = list(imputations = length(results), missing = pooled$missing[lead]),
        cautions = cautions_of_sets(results))
}

outcome_spread <- function(y, s) {
  known <- s > 0
  sqrt(core_variance_of(sum(s), sum(s^2), sum(s[known] * y[known]), sum(s[known] * y[known]^2)))
}

# Can units be told of at these doses? See measure_response().
response_support <- function(x, doses, v) {
  window <- if (length(unique(x$d)) == 2L) 0 else diff(range(x$d)) / 20
  effective <- core_units_near(x$d, v, doses, window)
  score <- x$score
  known <- !is.null(score) && !is.na(score$sd)
  reach <- if (!known) rep(NA_real_, length(doses)) else
    vapply(doses, function(dose) share_within(x, abs(dose - score$mean) <= 3 * score$sd), 0)
  data.frame(effective = effective, reach = reach, supported = effective >= 10 & (is.na(reach) | reach >= 0.95))
}

share_within <- function(x, inside) {
  s <- sampling_weight(x$base)
  sum(s[inside]) / sum(s)
}

warn_unsupported <- function(doses) {
  if (length(doses) == 0L) return(invisible())
  doses <- unique(doses)
  warn_kind("support", c("Contrasts reach beyond what the data support, at {.val {signif(doses, 4)}}.",
                         i = "Few units are near, or many could not have had such a dose; {.code tidy(x)} says where
                              there is support."))
}

#' @exportS3Method
study_of.twin_response <- function(x) x$study # nolint: object_name_linter. An S3 method.

#' @export
tidy.twin_response <- function(x, part = c("curve", "contrasts", "slope"), ...) { # nolint: object_name_linter.
  rlang::check_dots_empty()
  part <- check_choice(part, c("curve", "contrasts", "slope"))
  x[[part]]
}

#' @export
as.data.frame.twin_response <- function(x, ...) generics::tidy(x, ...)

#' @export
glance.twin_response <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(outcome = x$outcome, estimator = x$estimator, curve = x$words, nobs = x$counts[["used"]],
             average_slope = x$slope$estimate, std.error = x$slope$std.error, p.value = x$slope$p.value,
             p_flat = x$flat[["p.value"]], worst_correlation = x$worst, df = core_least_df(x$df))
}

#' @export
nobs.twin_response <- function(object, ...) object$counts[["used"]]

#' @export
augment.twin_response <- function(x, ...) {
  rlang::check_dots_empty()
  influence <- as.data.frame(x$influence)
  names(influence) <- paste0(".influence_", c(x$contrasts$contrast, "slope"))
  data.frame(row = x$study$rows, .used = x$used, influence, check.names = FALSE)
}
