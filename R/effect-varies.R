# The object of measure_variation(): numbers of all splits as tables, tests adjusted.

# The numbers of an outcome, medians over splits, as tables.
told_splits <- function(splits, ground, units, asked) {
  medians <- function(half) {
    parts <- stats::setNames(nm = names(splits[[1L]][[half]]))
    lapply(parts, function(part) core_median_splits(lapply(splits, function(split) split[[half]][[part]])))
  }
  early <- medians("early")
  late <- medians("late")
  df <- splits[[1L]]$early[[1L]]$df
  late_df <- splits[[1L]]$late[[1L]]$df
  rows <- function(own, df) estimate_rows(own$estimate, sqrt(diag(own$vcov)), df, asked$level)
  with_band <- function(own, df, part) {
    out <- rows(own, df)
    quantile <- uniform_quantile(own$vcov, asked$level, df, sub_seed(asked$seed, part))
    out$band.low <- own$estimate - quantile * out$std.error
    out$band.high <- own$estimate + quantile * out$std.error
    out
  }
  predictor <- early$predictor
  terms <- c("average", names(column_vectors(ground$columns)))
  levels <- Map(function(column, name) {
    part <- paste("along", name)
    cbind(told_places(column, name, ground), with_band(at_places(column, name, early[[part]], ground), df, part))
  }, ground$columns, names(ground$columns))
  groups <- late$groups
  calibration <- late$calibration
  targeting <- late$targeting
  last <- length(targeting$estimate)
  curve <- list(estimate = targeting$estimate[-last], vcov = targeting$vcov[-last, -last, drop = FALSE])
  g <- Reduce(`+`, lapply(splits, `[[`, "g")) / length(splits)
  predicted <- rowMeans(vapply(splits, `[[`, numeric(length(g)), "predicted"), na.rm = TRUE)
  list(
    predictor = data.frame(term = terms, rows(predictor, df)),
    joint = slopes_test(predictor, df),
    columns = do.call(rbind, unname(Map(function(name, rows) {
      bends <- ground$test_bases[[name]]$bends
      column_test(bends, name, rows, early[[paste(if (is.null(bends)) "along" else "test along", name)]], df)
    }, names(ground$columns), levels))),
    levels = do.call(rbind, unname(levels)),
    groups = data.frame(group = c(as.character(seq_len(asked$groups)), "last less first"), rows(groups, late_df)),
    calibration = foretelling_rows(data.frame(term = c("per_sd", "slope"), rows(calibration, late_df)), late_df),
    targeting = data.frame(share = c(targeted_shares, NA), term = c(rep("curve", last - 1L), "area"),
                           rbind(with_band(curve, late_df, "targeting"),
                                 cbind(rows(targeting, late_df)[last, ], band.low = NA, band.high = NA))),
    values = data.frame(treated = c("rule", "predicted", "everybody"),
                        share = apply(vapply(splits, `[[`, numeric(3L), "shares"), 1L, stats::median),
                        rows(late$values, late_df)),
    rule = final_rule(g, ground, asked), text = splits[[1L]]$early[[1L]]$text, df = df,
    units = data.frame(score = g, predicted = ifelse(is.nan(predicted), NA_real_, predicted))[units$used, ]
  )
}

# Of all slopes of the best linear predictor; those that others explain have none.
slopes_test <- function(predictor, df) {
  slopes <- which(!is.na(predictor$estimate))[-1L]
  if (length(slopes) == 0L) return(c(statistic = NA_real_, df = 0, p.value = NA_real_))
  core_zero_test(predictor$estimate[slopes], predictor$vcov[slopes, slopes, drop = FALSE], df)
}

estimate_rows <- function(estimate, se, df, level) {
  unknown <- is.na(estimate) | se == 0
  se <- ifelse(unknown, NA_real_, se)
  half <- core_t_quantile(level, df) * se
  data.frame(estimate = estimate, std.error = se, p.value = core_t_p_value(estimate / se, df),
             conf.low = estimate - half, conf.high = estimate + half)
}

# A prediction that foretells has the sign of the effect: p-values are of one side.
foretelling_rows <- function(rows, df) {
  rows$p.value <- stats::pt(rows$estimate / rows$std.error, df, lower.tail = FALSE)
  rows
}

uniform_quantile <- function(vcov, level, df, seed) {
  known <- diag(vcov) > 0
  if (sum(known) < 2L) return(core_t_quantile(level, df))
  with_own_seed(seed, core_band_quantile(stats::cov2cor(vcov[known, known, drop = FALSE]), level, df))
}

# Where the effect is told: column, level (text, NA along numbers), at (the number, NA for levels), share.
told_places <- function(column, name, ground) {
  basis <- ground$bases[[name]]
  if (!is.null(basis)) return(data.frame(column = name, level = NA_character_, at = basis$at, share = NA_real_))
  mass <- ground$s * ground$t
  told <- level_codes(column)
  share <- vapply(seq_along(told$names), function(k) sum(mass[told$code %in% k]), 0) / sum(mass)
  data.frame(column = name, level = told$names, at = NA_real_, share = share)
}

# Effects there, from those of levels or the coefficients of the curve.
at_places <- function(column, name, own, ground) {
  basis <- ground$bases[[name]]
  if (is.null(basis)) return(own)
  there <- cbind(1, basis$of(basis$at), if (!is.null(column$flag)) 0)
  list(estimate = drop(there %*% own$estimate), vcov = there %*% tcrossprod(own$vcov, there))
}

# Does the effect vary along the column? least, most: of the effects told.
# bends: of the curve own; NULL where it holds levels.
column_test <- function(bends, name, rows, own, df) {
  test <- if (is.null(bends)) {
    known <- !is.na(own$estimate)
    core_equality_test(own$estimate[known], own$vcov[known, known, drop = FALSE], df)
  } else if (bends == 0L) {
    c(statistic = NA_real_, df = 0, p.value = NA_real_)
  } else {
    bent <- 1L + seq_len(bends)
    core_zero_test(own$estimate[bent], own$vcov[bent, bent, drop = FALSE], df)
  }
  data.frame(column = name, least = min(rows$estimate, na.rm = TRUE), most = max(rows$estimate, na.rm = TRUE),
             statistic = test[["statistic"]], df = test[["df"]], p.value = test[["p.value"]])
}

# The rule learnt from all units, in words.
final_rule <- function(g, ground, asked) {
  rule <- core_shallow_rule(sums_of_rows(g - ground$cost * ground$t, ground, seq_along(g)), asked$depth, asked$budget)
  text <- ground$questions$text
  other <- ground$questions$otherwise
  if (is.na(rule$first)) return(if (rule$treat[1L]) "everybody" else "nobody")
  paths <- c(text[rule$first], other[rule$first])
  leaves <- unlist(lapply(1:2, function(side) {
    own <- rule$treat[2L * side - 1:0]
    if (all(own)) return(paths[side])
    if (!any(own)) return(NULL)
    narrower <- c(text[rule$second[side]], other[rule$second[side]])[own]
    sides <- sub(" [^ ]*$", "", c(paths[side], narrower))
    within <- sides[1L] == sides[2L] && grepl(" (>|<=)$", sides[1L])  # the second says more of the same number
    paste(c(if (!within) paths[side], narrower), collapse = " and ")
  }))
  if (length(leaves) == 0L) return("nobody")
  if (length(leaves) == 2L && all(leaves == paths)) return("everybody")
  paste0("where ", paste(leaves, collapse = ", or where "))
}

# found: one entry per outcome, see told_splits().
new_variation <- function(x, found, asked) {
  names(found) <- vapply(found, `[[`, "", "outcome")
  together <- function(part) {
    each <- Map(function(one, outcome) cbind(outcome = outcome, one[[part]]), found, names(found))
    rows <- do.call(rbind, unname(each))
    rownames(rows) <- NULL
    rows
  }
  parts <- c("columns", "predictor", "levels", "groups", "calibration", "targeting", "values")
  tables <- lapply(stats::setNames(nm = parts), together)
  tables$columns$p.adjusted <- p_adjusted(tables$columns$p.value, asked$adjust)
  tests <- data.frame(outcome = names(found), p_columns = vapply(found, function(one) one$joint[["p.value"]], 0),
                      p_prediction = vapply(found, function(one) one$calibration$p.value[1L], 0))
  adjusted <- p_adjusted(c(tests$p_columns, tests$p_prediction), asked$adjust)
  tests$adjusted_columns <- utils::head(adjusted, nrow(tests))
  tests$adjusted_prediction <- utils::tail(adjusted, nrow(tests))
  rownames(tests) <- NULL
  study <- study_of(x)
  structure(list(
    study = study, estimand = study$estimand, design = design_label(x), tables = tables, tests = tests,
    rules = vapply(found, `[[`, "", "rule"), text = found[[1L]]$text, df = found[[1L]]$df,
    units = lapply(found, function(one) cbind(row = study$rows[one$rows], one$units)),
    n = vapply(found, `[[`, 0L, "n"), level = asked$level, adjust = asked$adjust, folds = asked$folds,
    repeats = asked$repeats, groups = asked$groups, learners = names(asked$chosen), costs = any(asked$costs != 0),
    budget = asked$budget, depth = asked$depth
  ), class = "twin_variation")
}

#' @exportS3Method
study_of.twin_variation <- function(x) x$study # nolint: object_name_linter. An S3 method.

#' @export
tidy.twin_variation <- function(x, part = c("columns", "predictor", "levels", "groups", # nolint: object_name_linter.
                                            "calibration", "targeting", "rule"), ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("columns", "predictor", "levels", "groups", "calibration", "targeting", "rule"))
  x$tables[[if (part == "rule") "values" else part]]
}

#' @export
as.data.frame.twin_variation <- function(x, ...) generics::tidy(x, ...)

#' @export
glance.twin_variation <- function(x, ...) {
  rlang::check_dots_empty()
  average <- x$tables$predictor[x$tables$predictor$term == "average", ]
  slope <- x$tables$calibration[x$tables$calibration$term == "slope", ]
  area <- x$tables$targeting[x$tables$targeting$term == "area", ]
  data.frame(x$tests["outcome"], estimand = x$estimand, average = average$estimate, std.error = average$std.error,
             x$tests[-1L], slope = slope$estimate, area = area$estimate, area_p = area$p.value, rule = unname(x$rules),
             nobs = unname(x$n), varies = unname(does_vary(x)))
}

#' @export
nobs.twin_variation <- function(object, ...) max(object$n)

#' @export
augment.twin_variation <- function(x, ...) {
  rlang::check_dots_empty()
  parts <- Map(function(own, outcome) {
    data.frame(outcome = outcome, .row = own$row, .score = own$score, .predicted = own$predicted)
  }, x$units, names(x$units))
  out <- do.call(rbind, unname(parts))
  rownames(out) <- NULL
  out
}

# By outcome: does either test find that the effect varies?
does_vary <- function(x) {
  p <- pmin(x$tests$adjusted_columns, x$tests$adjusted_prediction, na.rm = TRUE)
  !is.na(p) & p < 1 - x$level
}
