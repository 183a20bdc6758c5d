# What unit scores say (effect-variation.R): by columns, and by what was predicted of each unit.

# parts: named list of list(estimate, influence). Returns list(estimate, vcov, df, text), terms of a part called by it.
with_errors <- function(parts, x, units, asked, call) {
  estimate <- unlist(lapply(unname(parts), `[[`, "estimate"))
  names(estimate) <- rep(names(parts), vapply(parts, function(part) length(part$estimate), 0L))
  influence <- do.call(cbind, lapply(unname(parts), `[[`, "influence"))
  found <- effect_vcov(x, influence, units, asked$clusters, "centre", call)
  list(estimate = estimate, vcov = found$vcov, df = found$df, text = found$text)
}

# What needs no prediction: of "predictor", of "at" and "shape" of each column.
parts_by_columns <- function(g, ground) {
  s <- ground$s
  t <- ground$t
  matrix <- covariate_matrix(ground$columns)
  centred <- sweep(matrix, 2L, colSums(s * t * matrix) / sum(s * t))
  predictor <- core_effect_predictor(cbind(1, centred), g, t, s)
  predictor$estimate[predictor$aliased] <- NA
  average <- core_effects_among(matrix(1, length(g)), g, t, s)  # means of columns are estimated, too
  predictor$influence[, 1L] <- average$influence
  each <- lapply(ground$columns, function(column) {
    if (is_told_by_level(column)) return(list(at = level_effects(column, g, t, s)))
    curve_effects(column, g, t, s)
  })
  names(each) <- NULL
  parts <- unlist(each, recursive = FALSE)
  names(parts) <- unlist(Map(function(own, name) paste(names(own), name), each, names(ground$columns)))
  c(list(predictor = predictor), parts)
}

# Factors, columns of two values, and numbers of few.
is_told_by_level <- function(column) column$kind %in% c("factor", "binary") || length(unique(column$values)) <= 5L

# Codes of a column's levels (NA where missing and filled) and their names.
level_codes <- function(column) {
  if (column$kind == "factor") return(list(code = column$values, names = column$levels))
  values <- column$values
  if (!is.null(column$flag)) values[column$flag == 1] <- NA
  known <- sort(unique(values))
  list(code = match(values, known), names = if (column$kind == "binary") rev(column_levels(column)) else
    format_value(known, column))
}

format_value <- function(values, column) {
  if (column$kind == "date") format(as.Date(values, origin = "1970-01-01")) else format(values, trim = TRUE, digits = 4)
}

level_effects <- function(column, g, t, s) {
  told <- level_codes(column)
  member <- vapply(seq_along(told$names), function(k) as.double(told$code %in% k), numeric(length(g)))
  found <- core_effects_among(member, g, t, s)
  thin <- colSums(member * (s * t > 0)) < 5
  found$estimate[thin] <- NA
  found$influence[, thin] <- 0
  found
}

# Along a number: a natural cubic spline of three degrees of freedom, told at twentieths of whom the effect speaks of.
curve_effects <- function(column, g, t, s) {
  basis <- curve_basis(column, s * t)
  flag <- column$flag
  fit <- core_effect_predictor(cbind(1, basis$of(column$values), flag), g, t, s)
  there <- cbind(1, basis$of(basis$at), if (!is.null(flag)) 0)
  list(at = list(estimate = drop(there %*% fit$estimate), influence = tcrossprod(fit$influence, there)),
       shape = list(estimate = fit$estimate[2:4], influence = fit$influence[, 2:4, drop = FALSE]))
}

# list(at: where the curve is told, of: values as columns of the spline). mass: of each unit.
curve_basis <- function(column, mass) {
  known <- mass > 0 & (if (is.null(column$flag)) TRUE else column$flag == 0)
  quantile_at <- function(shares) core_weighted_quantiles(column$values[known], mass[known], shares)
  knots <- unique(quantile_at(c(1, 2) / 3))
  ends <- quantile_at(c(0.02, 0.98))
  knots <- knots[knots > ends[1L] & knots < ends[2L]]
  of <- function(values) {
    out <- splines::ns(values, knots = knots, Boundary.knots = ends)
    cbind(matrix(out, nrow(out)), matrix(0, nrow(out), max(0L, 3L - ncol(out))))
  }
  list(at = unique(quantile_at(1:19 / 20)), of = of)
}

# What rests on the predicted effect: "groups", "calibration", "targeting" (curve, then area), "values" (of the rule, of
# the best within the budget, of everybody); shares: whom these three treat.
parts_by_prediction <- function(g, predicted, ground, fold, asked) {
  later <- fold > 1L
  s <- ground$s * later
  t <- ground$t
  fold <- ifelse(later, fold, 0L)
  order <- with_own_seed(sub_seed(asked$seed, "ties"), sample.int(length(g)))
  above <- core_share_above(predicted, s * t, fold, order)
  band <- pmin(floor((1 - above) * asked$groups), asked$groups - 1)
  member <- vapply(seq_len(asked$groups) - 1, function(k) as.double(later & band == k), numeric(length(g)))
  groups <- core_effects_among(member, g, t, s)
  last <- ncol(member)
  groups$estimate <- c(groups$estimate, groups$estimate[last] - groups$estimate[1L])
  groups$influence <- cbind(groups$influence, groups$influence[, last] - groups$influence[, 1L])
  net <- g - ground$cost * t
  gain <- predicted - ground$cost
  above <- core_share_above(gain, s * t, fold, order)
  curve <- core_targeting(ifelse(later, above, 1), net, t, s, targeted_shares)
  best <- ifelse(later & above <= asked$budget & gain > 0, 1, 0)
  chosen <- list(rule_by_fold(net, ground, fold, asked), best, as.double(later))
  values <- lapply(chosen, core_value_of, g = net, t = t, s = s)
  list(groups = groups, calibration = core_calibration(predicted, g, t, s, fold), targeting = curve,
       values = list(estimate = vapply(values, `[[`, 0, "estimate"),
                     influence = vapply(values, `[[`, numeric(length(g)), "influence")),
       shares = vapply(chosen, function(own) sum(s * t * own) / sum(s * t), 0))
}

targeted_shares <- 1:20 / 20

# What a rule can ask of the units at hand: list(yes: n x C answers, column, text: of yes, otherwise: of no). Numbers
# are cut at their tenths; what nearly all answer alike is not asked.
rule_questions <- function(ground) {
  each <- Map(function(column, name) {
    if (column$kind %in% c("factor", "binary")) {
      told <- level_codes(column)
      keep <- if (length(told$names) == 2L) 2L else seq_along(told$names)
      yes <- vapply(keep, function(k) as.double(told$code %in% k), numeric(length(column$values)))
      names <- told$names[keep]
      other <- if (length(told$names) == 2L && is.null(column$flag)) sprintf("%s is %s", name, told$names[1L]) else
        sprintf("%s is not %s", name, names)
      return(list(yes = yes, text = sprintf("%s is %s", name, names), otherwise = other))
    }
    cuts <- unique(core_weighted_quantiles(column$values, ground$s, 1:9 / 10))
    yes <- vapply(cuts, function(cut) as.double(column$values > cut), numeric(length(column$values)))
    shown <- format_value(cuts, column)
    list(yes = yes, text = sprintf("%s > %s", name, shown), otherwise = sprintf("%s <= %s", name, shown))
  }, ground$columns, names(ground$columns))
  yes <- do.call(cbind, lapply(unname(each), `[[`, "yes"))
  share <- colSums(ground$s * yes) / sum(ground$s)
  keep <- which(share >= 0.05 & share <= 0.95)
  list(yes = yes[, keep, drop = FALSE], text = unlist(lapply(unname(each), `[[`, "text"))[keep],
       otherwise = unlist(lapply(unname(each), `[[`, "otherwise"))[keep])
}

# Whom the rule learnt from the folds before would treat; fold: 0 for the first and those that are out.
rule_by_fold <- function(net, ground, fold, asked) {
  out <- numeric(length(net))
  yes <- ground$questions$yes
  for (k in setdiff(sort(unique(fold)), 0L)) {
    s <- ground$s * (fold < k)  # the first fold's are those of 0 that take part
    rule <- core_shallow_rule(net, ground$t, s, yes, asked$depth, asked$budget)
    rows <- which(fold == k)
    out[rows] <- core_rule_answer(rule, yes[rows, , drop = FALSE])
  }
  out
}
