# Scores and weights of a dose; see frame_dose().

score_dose <- function(x, model, density, given, call = rlang::caller_env()) {
  if (!is.null(x$weight)) abort_unsupported("These doses already have weights.", call = call)
  refuse_stray(setdiff(given, c("x", "model", "density")), "a dose",
               "Its score is a density; {.arg model} and {.arg density} can be chosen.", call)
  study <- x$base
  shape <- if (length(unique(x$d)) == 2L) "share" else if (density == "kernel") "kernel" else "normal"
  if (shape == "share" && density != "normal") {
    abort_input(c("A dose of two values has shares, no density: leave {.arg density} out."), call = call)
  }
  terms <- model_terms(study, model, call)
  if (length(terms$columns) == 0L) {
    abort_input(c("A score needs covariates.", i = "Name them in {.fn frame_dose}."), call = call)
  }
  matrix <- if (density == "splines") spline_matrix(study, terms, model, call) else terms_matrix(study, terms)
  made <- core_dose_score(matrix, x$d, sampling_weight(study), shape)
  check_dose_fit(made$fit, matrix, x, call)
  if (shape != "share") warn_shared_dose(x)
  words <- c(normal = "a normal density about a linear mean", splines = "a normal density about natural splines",
             kernel = "a kernel density about a linear mean", share = "a logit of its two values")
  score <- c(made, list(words = words[[if (shape == "share") shape else density]], terms = terms$text))
  step <- list(verb = "score", label = "score", density = if (shape == "share") shape else density, model = terms$text)
  out <- new_dose(study, x$d, c(x$steps, list(step)), score)
  log_step(study, "score", score$words, sprintf("%d units", length(x$d)), list(model = terms$text))
  out
}

# Numeric columns as natural splines of three degrees of freedom, where they have enough values.
spline_matrix <- function(study, terms, model, call) {
  if (!is.null(model) || !is.null(terms$formula)) {
    abort_input(c("{.code density = \"splines\"} bends the study's own columns and has no use with a formula.",
                  i = "Write {.code splines::ns()} terms into the formula instead."), call = call)
  }
  parts <- lapply(names(terms$columns), function(name) {
    column <- terms$columns[[name]]
    plain <- study_matrix(study, terms$columns[name], NULL)
    if (!column$kind %in% c("numeric", "date") || length(unique(column$values)) < 6L) return(plain)
    bent <- splines::ns(column$values, df = 3L)
    bent <- matrix(bent, ncol = 3L, dimnames = list(NULL, paste0(name, ", bend ", 1:3)))
    cbind(bent, plain[, -1L, drop = FALSE])
  })
  do.call(cbind, parts)
}

check_dose_fit <- function(fit, matrix, x, call) {
  if (fit$status == "separated") stop_separated(colnames(matrix)[abs(fit$direction) > 0], call)
  check_converged(fit, colnames(matrix), call)
  if (identical(fit$status, "converged") && all(abs(x$d - fit$fitted) <= 1e-8 * max(abs(x$d)))) {
    abort_separation(c("The covariates tell the dose without error: no unit could have had another.",
                       i = "Leave out what the dose is made of."), call = call)
  }
}

# Many units (five at least) with the least dose (mostly none at all) or the most, twice as many as have any other.
warn_shared_dose <- function(x) {
  for (end in range(x$d)) {
    held <- x$d == end
    next_most <- max(rle(sort(x$d[!held]))$lengths)
    if (sum(held) < max(5, 0.1 * length(held), 2 * next_most)) next
    warn_kind("density", c(
      "{count_text(sum(held))} of {plural(length(held), 'unit')} share the dose {signif(end, 4)}; a density knows no
       such share, so inverse weights by it are wrong for them.",
      i = "{.code weigh_units(method = \"entropy\")} needs no density; {.fn frame_study} compares units that have some
           with those that have none."
    ), dose = end, rows = x$base$rows[held])
  }
}

# The register of weights of a dose: options: arguments that belong to this one; make: function(x, asked, call) giving
# list(weight, nuisance, label).
dose_weighings <- list(
  inverse = list(options = character(), make = function(x, asked, call) inverse_dose_weights(x, call)),
  entropy = list(options = "moments", make = function(x, asked, call) balancing_dose_weights(x, asked$moments, call))
)

weigh_dose <- function(x, given, method, moments, truncate, call = rlang::caller_env()) {
  if (!is.null(x$weight)) abort_unsupported("These doses already have weights.", call = call)
  method <- check_choice(method, names(dose_weighings), "method", call)
  own <- dose_weighings[[method]]
  refuse_stray(setdiff(given, c("x", "method", "truncate", own$options)), "a dose",
               "{.arg method} and {.arg truncate} can be chosen, with entropy weights {.arg moments}.", call)
  truncate <- check_truncate(truncate, call)
  made <- own$make(x, list(moments = moments), call)
  s <- sampling_weight(x$base)
  weight <- made$weight / (sum(s * made$weight) / sum(s))
  limits <- limits_of_weights(weight, s, truncate)
  cut <- pmin(pmax(weight, limits[1L]), limits[2L])
  moved <- sum(cut != weight & s > 0)
  label <- sprintf("%s%s", made$label, if (is.null(truncate)) "" else ", truncated")
  step <- list(verb = "weigh", label = label, method = method, moments = if ("moments" %in% own$options) moments,
               truncate = truncate, cut = if (!is.null(truncate)) c(low = limits[1L], high = limits[2L], moved = moved))
  scale <- sum(s) / sum(s * made$weight)
  steps <- c(Filter(function(step) step$verb != "score", x$steps), list(step))
  out <- new_dose(x$base, x$d, steps, x$score, cut, core_scaled(made$nuisance, scale * (cut == weight)))
  warn_heavy_doses(out)
  log_step(x$base, "weigh", label, sprintf("effective %.0f of %d units%s", effective_units(out), length(x$d),
                                           if (is.null(truncate)) "" else sprintf("; truncated %d", moved)),
           list(truncate = unlist(truncate)), worst = worst_correlation(out), design = out$hash)
  out
}

inverse_dose_weights <- function(x, call) {
  if (is.null(x$score)) {
    abort_input(c("{.fn weigh_units} needs a score.", i = "Call {.fn score_units} first, or use
                   {.code method = \"entropy\"}."), call = call)
  }
  list(weight = x$score$weight, nuisance = x$score$nuisance,
       label = sprintf("inverse weights by %s", x$score$words))
}

balancing_dose_weights <- function(x, moments, call) {
  check_count(moments, max = 3, arg = "moments", call = call)
  s <- sampling_weight(x$base)
  columns <- column_vectors(x$base$columns)
  if (length(columns) == 0L) {
    abort_input(c("Entropy weights need covariates.", i = "Name them in {.fn frame_dose}."), call = call)
  }
  numeric <- vapply(x$base$columns, function(column) column$kind %in% c("numeric", "date"), NA)
  bases <- columns[names(columns) %in% names(numeric)[numeric]]
  scaled <- function(values) {
    away <- values - sum(s * values) / sum(s)
    away / sqrt(sum(s * away^2) / sum(s))
  }
  own <- lapply(columns, scaled)
  powers <- unlist(lapply(seq_len(moments)[-1L], function(power) {
    stats::setNames(lapply(bases, function(values) scaled(scaled(values)^power)), sprintf("%s^%d", names(bases), power))
  }), recursive = FALSE)
  d <- scaled(x$d)
  keep <- vapply(seq_len(moments), function(power) scaled(d^power), numeric(length(d)))
  if (length(unique(x$d)) == 2L) keep <- keep[, 1L, drop = FALSE]
  matrix <- do.call(cbind, c(own, powers))
  made <- core_dose_balance(matrix[, colSums(is.na(matrix)) == 0, drop = FALSE], d, s, keep)
  if (made$fit$status != "converged") stop_unbalanced_dose(matrix, d, call)
  c(made, list(label = sprintf("entropy weights (%s)", plural(moments, "moment"))))
}

# A level of which all units have more than the mean dose, or all less, can't be without correlation; d: centred.
stop_unbalanced_dose <- function(matrix, d, call) {
  sides <- apply(matrix, 2L, function(values) {
    has <- values == max(values)
    if (length(unique(values)) > 2L || 2 * sum(has) > length(has)) return(NA)
    if (all(d[has] < 0)) "less" else if (all(d[has] > 0)) "more" else NA
  })
  held <- which(!is.na(sides))
  units <- if (length(held) > 0L) sum(matrix[, held[1L]] == max(matrix[, held[1L]]))
  abort_kind("infeasible", c(
    "No weights leave the dose without correlation with all covariates.",
    x = if (length(held) == 0L) "Some covariate nearly tells the dose, or there are more moments than units can
                                 meet." else
      "{plural(units, 'unit')} with {.val {names(held)[1L]}}: {cli::qty(units)}{?its dose is/all their doses are}
       {sides[[held[1L]]]} than the mean.",
    x = if (length(held) > 1L) "The same holds for {.val {names(held)[-1L]}}.",
    i = if (length(held) == 0L) "Use fewer {.arg moments} or covariates, or narrow the study to doses that all kinds of
                                 units have." else
      "Leave such units or the column out, or put the level together with another."
  ), moments = colnames(matrix), columns = names(held), call = call, .envir = rlang::current_env())
}

# From where to where weights may go.
limits_of_weights <- function(weight, s, truncate) {
  if (is.null(truncate)) return(c(0, Inf))
  if (!is.null(truncate$bound)) return(c(0, truncate$bound))
  ends <- core_weighted_quantiles(weight[s > 0], s[s > 0], truncate$quantile)
  c(if (truncate$quantile[1L] == 0) 0 else ends[1L], ends[2L])
}

effective_units <- function(x) {
  v <- dose_weight(x)
  core_effective_size_of(sum(v), sum(v^2))
}

warn_heavy_doses <- function(x) {
  v <- dose_weight(x)
  heavy <- which(v > 0.1 * sum(v))
  if (length(heavy) == 0L || sum(v > 0) < 20L) return(invisible(x))
  warn_kind("weights", c(
    "{length(heavy)} unit{?s} carr{?ies/y} more than a tenth of all weight.",
    x = "First rows: {first_rows(x$base$rows[heavy])}; doses {signif(x$d[first_rows(heavy)], 3)}.",
    i = "Their doses are unlikely for units like them: {.code truncate = c(quantile = 0.99)} cuts their weights."
  ), rows = x$base$rows[heavy])
}

# Correlations of the dose with the rows of the balance table, before and after the weights.
dose_correlations <- function(x, columns = x$base$columns) {
  rows <- indicator_rows(columns)
  vectors <- unlist(lapply(unname(columns), column_indicators), recursive = FALSE)
  samples <- list(before = sampling_weight(x$base))
  if (!is.null(x$weight)) samples$after <- dose_weight(x)
  do.call(rbind, unname(Map(function(v, sample) {
    data.frame(rows, sample = sample, mean = vapply(vectors, function(own) sum(v * own) / sum(v), 0),
               correlation = core_dose_correlations(vectors, x$d, v))
  }, samples, names(samples))))
}

# What column_indicators() are called: a data frame of covariate, level, kind.
indicator_rows <- function(columns) {
  do.call(rbind, unname(Map(function(column, name) {
    level <- if (column$kind %in% c("numeric", "date")) NA_character_ else column$levels
    kind <- if (column$kind == "factor") "level" else column$kind
    data.frame(covariate = name, level = c(level, if (!is.null(column$flag)) missing_level),
               kind = c(rep(kind, length(level)), if (!is.null(column$flag)) "missing"))
  }, columns, names(columns))))
}

# The largest |correlation| after the weights.
worst_correlation <- function(x) {
  rows <- dose_correlations(x)
  size <- abs(rows$correlation[rows$sample == rows$sample[nrow(rows)]])
  if (all(is.na(size))) NA_real_ else max(size, na.rm = TRUE)
}

#' @rdname design_data
#' @export
weights.twin_dose <- function(object, full = FALSE, ...) {
  rlang::check_dots_empty()
  check_flag(full)
  own <- if (full) dose_weight(object) else if (is.null(object$weight)) rep(1, length(object$d)) else object$weight
  on_all_rows(object, own, 0)
}

#' @export
nobs.twin_dose <- function(object, ...) length(object$d)
