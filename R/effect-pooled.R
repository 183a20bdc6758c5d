# Effects of several completed data sets as one: Methods, "Imputed data".

# An effect like any other, made of those in `parts` (by data set), which it keeps. pooling: a data frame per term, on
# the scale that intervals are made on.
pool_effects <- function(parts) {
  first <- parts[[1L]]
  terms <- Reduce(intersect, lapply(parts, function(part) names(part$estimate)))
  scale <- term_scale(terms)
  scaled <- lapply(parts, function(part) {
    own <- interval_scale(part$estimate[terms], sqrt(diag(part$vcov))[terms], scale)
    slope <- ifelse(scale == "plain", 1, sqrt(diag(part$vcov))[terms] / own$spread)
    list(centre = own$centre, vcov = part$vcov[terms, terms, drop = FALSE] / outer(slope, slope))
  })
  df <- do.call(pmin, unname(lapply(parts, function(part) rep_len(part$df, length(terms)))))
  pooled <- core_pool(do.call(rbind, lapply(scaled, `[[`, "centre")), lapply(scaled, `[[`, "vcov"), df)
  estimate <- stats::setNames(from_scale(pooled$estimate, scale), terms)
  back <- 1 / interval_scale(estimate, 1, scale)$spread
  worst <- which.max(vapply(parts, function(part) if (is.na(part$worst_smd)) -1 else part$worst_smd, 0))
  mean_of <- function(field) Reduce(`+`, lapply(parts, `[[`, field)) / length(parts)
  made <- structure(c(unclass(first), list(
    parts = parts, pooling = pooling_table(terms, scale, parts, pooled)
  )), class = c("twin_pooled", class(first)))
  amend_effect(
    made, estimate = estimate, vcov = pooled$vcov * outer(back, back), df = unname(pooled$df),
    influence = pooled_influence(parts, terms), rows = seq_along(first$study$z),
    used = Reduce(`|`, lapply(parts, used_units)), counts = round(mean_of("counts")), sizes = mean_of("sizes"),
    outcome_sd = mean_of("outcome_sd"), worst_smd = parts[[worst]]$worst_smd, worst_row = parts[[worst]]$worst_row,
    inference = paste0(first$inference, if (length(parts) > 1L) sprintf(", pooled over %d imputed data sets",
                                                                        length(parts))),
    pairs = NULL, draws = NULL, interval = "normal", cautions = cautions_of_sets(parts)
  )
}

is_pooled <- function(x) inherits(x, "twin_pooled")

#' @exportS3Method
sets_of.twin_pooled <- function(x) x$parts # nolint: object_name_linter. An S3 method.

pooling_table <- function(terms, scale, parts, pooled) {
  data.frame(
    term = terms, scale = ifelse(scale == "plain", "as it is", ifelse(scale == "log", "log", "difference of logs")),
    imputations = length(parts), least = of_parts(parts, terms, min), most = of_parts(parts, terms, max),
    within = sqrt(pooled$within), between = sqrt(pooled$between), std.error = sqrt(diag(pooled$vcov)),
    df = pooled$df, missing_information = pooled$missing, row.names = NULL
  )
}

of_parts <- function(parts, terms, f) {
  apply(do.call(rbind, lapply(parts, function(part) part$estimate[terms])), 2L, f)
}

used_units <- function(part) {
  out <- logical(length(part$study$z))
  out[part$rows] <- part$used
  out
}

# The mean over data sets, a row per unit of the study.
pooled_influence <- function(parts, terms) {
  n <- length(parts[[1L]]$study$z)
  own <- lapply(parts, function(part) {
    out <- matrix(0, n, length(terms), dimnames = list(NULL, terms))
    out[part$rows, ] <- part$influence[, terms] * (n / length(part$rows))
    out
  })
  Reduce(`+`, own) / length(own)
}

#' @exportS3Method
over_sets.twin_effect <- function(first, results) pool_effects(results) # nolint: object_name_linter. An S3 method.

# Effect by effect; groups that some data sets lack are left out.
#' @exportS3Method
over_sets.twin_effects <- function(first, results) { # nolint: object_name_linter. An S3 method.
  shared <- Reduce(intersect, lapply(results, names))
  lost <- setdiff(unlist(lapply(results, names)), shared)
  if (length(lost) > 0L) {
    warn_kind("dropped", c("Left out, since not every data set has {cli::qty(length(lost))}{?it/them}: {.val {lost}}.",
                           i = "Merge small groups, or name a column that was not imputed."))
  }
  effects <- lapply(shared, function(name) pool_effects(lapply(results, function(one) one[[name]])))
  asked <- first$effects[[1L]]$source$asked
  new_effects(effects, list(adjust = first$adjust, by = first$by, level = first$level, bands = !is.null(first$bands),
                            seed = asked$seed))
}

# Rubin's rules for the joint covariance: the mean of those within each data set, and how estimates move together
# between them; each effect's own variance is the pooled one.
pooled_joint_vcov <- function(effects, terms, call = rlang::caller_env()) {
  sets <- names(effects[[1L]]$parts)
  within <- lapply(sets, function(set) joint_vcov(lapply(effects, function(effect) effect$parts[[set]]), terms))
  estimates <- do.call(rbind, lapply(sets, function(set) {
    unlist(Map(function(effect, names) effect$parts[[set]]$estimate[names], unname(effects), unname(terms)))
  }))
  pooled <- core_pool(estimates, within, Inf)
  se <- sqrt(unlist(Map(function(effect, names) diag(effect$vcov)[names], effects, terms)))
  joint <- correlation_of(pooled) * outer(se, se)
  diag(joint) <- se^2
  joint
}

# Pooled effects can be set beside those of the same data sets alone.
check_pooled_alike <- function(effects, call) {
  sets <- unique(lapply(effects, function(effect) names(sets_of(effect))))
  if (length(sets) > 1L) {
    abort_input(c("Effects of imputed data can be compared with others of the same data sets only.",
                  i = "Measure all of them from one study."), call = call)
  }
}

#' @export
tidy.twin_pooled <- function(x, part = c("effect", "pooling"), conf.level = x$level, # nolint: object_name_linter.
                             ...) {
  rlang::check_dots_empty()
  lasts <- inherits(x, "twin_hazard")
  part <- check_choice(if (missing(part)) "effect" else part, c("effect", "pooling", if (lasts) "curves"))
  if (part == "pooling") return(x$pooling)
  # curves are steps at each data set's own times: those of the first
  if (part == "curves") return(generics::tidy(x$parts[[1L]], part = "curves", conf.level = conf.level))
  tidy.twin_effect(x, conf.level = conf.level)
}

#' @export
glance.twin_pooled <- function(x, ...) {
  row <- x$pooling[match(main_terms(x), x$pooling$term), ]
  plain <- amend(x, df = row$df)
  class(plain) <- setdiff(class(x), "twin_pooled")
  cbind(generics::glance(plain), imputations = row$imputations, missing_information = row$missing_information)
}

main_terms <- function(x) intersect(c("hazard_ratio", "difference"), names(x$estimate))[1L]
