# What unit scores say (effect-variation.R): by columns, and by what was predicted of each unit.

# parts: named list of list(estimate, influence). The same with list(estimate, vcov, df, text) of each.
with_errors <- function(parts, x, units, asked, call) {
  lapply(parts, function(part) {
    found <- effect_vcov(x, part$influence, units, asked$clusters, "centre", call)
    list(estimate = unname(part$estimate), vcov = unname(found$vcov), df = found$df, text = found$text)
  })
}

# What needs no prediction: "predictor", "along" each column its levels, or the coefficients of its curve, and for the
# "test along" a number those of a curve of few bends, as a test of many directions has little power in any.
parts_by_columns <- function(g, ground) {
  s <- ground$s
  t <- ground$t
  matrix <- covariate_matrix(ground$columns)
  centred <- sweep(matrix, 2L, colSums(s * t * matrix) / sum(s * t))
  predictor <- core_effect_predictor(cbind(1, centred), g, t, s)
  predictor$estimate[predictor$aliased] <- NA
  average <- core_effects_among(matrix(1, length(g)), g, t, s)  # means of columns are estimated, too
  predictor$influence[, 1L] <- average$influence
  curve <- function(column, basis) core_effect_predictor(cbind(1, basis$of(column$values), column$flag), g, t, s)
  each <- Map(function(column, basis) if (is.null(basis)) level_effects(column, g, t, s) else curve(column, basis),
              ground$columns, ground$bases)
  bent <- names(ground$test_bases)
  tested <- Map(curve, ground$columns[bent], ground$test_bases)
  c(list(predictor = predictor), stats::setNames(each, paste("along", names(each))),
    stats::setNames(tested, paste("test along", bent)))
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

# Along a number: a natural cubic spline, told at twentieths of whom the effect speaks of. mass: of each unit; knots:
# NULL for as many as usual. list(at: where it is told, of: values as columns of the spline, bends: their number).
curve_basis <- function(column, mass, knots = NULL) {
  known <- mass > 0 & (if (is.null(column$flag)) TRUE else column$flag == 0)
  values <- column$values[known]
  placed <- place_knots(values, mass[known], if (is.null(knots)) usual_knots(values) else knots)
  alone <- placed$ends[1L] == placed$ends[2L]  # of whom the effect speaks, all have one value
  of <- function(values) if (alone) matrix(0, length(values), 0L) else spline_columns(values, placed)
  list(at = unique(core_weighted_quantiles(values, mass[known], 1:19 / 20)), of = of,
       bends = if (alone) 0L else length(placed$inner) + 1L)
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

# What a rule can ask of the units at hand: core_question_sums(), with the text of each answer: text of yes, otherwise
# of no. Numbers are cut at their tenths; what nearly all answer alike is not asked.
rule_questions <- function(ground) {
  each <- Map(function(column, name) {
    own <- if (column$kind %in% c("factor", "binary")) level_questions(column, name) else
      number_questions(column, name, ground$s)
    share <- drop(own$yes %*% core_sums_by(ground$s, own$code, ncol(own$yes))) / sum(ground$s)
    keep <- which(share >= 0.05 & share <= 0.95)
    list(code = own$code, yes = own$yes[keep, , drop = FALSE], text = own$text[keep], otherwise = own$otherwise[keep])
  }, ground$columns, names(ground$columns))
  each <- unname(Filter(function(own) nrow(own$yes) > 0L, each))
  list(code = lapply(each, `[[`, "code"), yes = lapply(each, `[[`, "yes"),
       text = unlist(lapply(each, `[[`, "text")), otherwise = unlist(lapply(each, `[[`, "otherwise")))
}

# Is it that level? Of two levels, the second; a missing one answers no.
level_questions <- function(column, name) {
  told <- level_codes(column)
  count <- length(told$names)
  keep <- if (count == 2L) 2L else seq_len(count)
  code <- told$code
  code[is.na(code)] <- count + 1L
  names <- told$names[keep]
  other <- if (count == 2L && is.null(column$flag)) sprintf("%s is %s", name, told$names[1L]) else
    sprintf("%s is not %s", name, names)
  list(code = as.integer(code), yes = diag(1, count + 1L)[keep, , drop = FALSE],
       text = sprintf("%s is %s", name, names), otherwise = other)
}

number_questions <- function(column, name, s) {
  cuts <- sort(unique(core_weighted_quantiles(column$values, s, 1:9 / 10)))
  yes <- outer(seq_along(cuts), seq_len(length(cuts) + 1L), `<`)
  shown <- format_value(cuts, column)
  list(code = findInterval(column$values, cuts, left.open = TRUE) + 1L, yes = yes * 1,
       text = sprintf("%s > %s", name, shown), otherwise = sprintf("%s <= %s", name, shown))
}

# Whom the rule learnt from the folds before would treat; fold: 0 for the first and those that are out.
rule_by_fold <- function(net, ground, fold, asked) {
  out <- numeric(length(net))
  known <- NULL
  for (k in sort(unique(fold))) {
    rows <- which(fold == k)
    if (!is.null(known)) {
      rule <- core_shallow_rule(known, asked$depth, asked$budget)
      out[rows] <- core_rule_answer(rule, ground$questions, rows)
    }
    own <- sums_of_rows(net, ground, rows)
    known <- if (is.null(known)) own else Map(`+`, known, own)
  }
  out
}

sums_of_rows <- function(net, ground, rows) {
  questions <- list(code = lapply(ground$questions$code, `[`, rows), yes = ground$questions$yes)
  core_question_sums(net[rows], ground$t[rows], ground$s[rows], questions)
}
