# Scores and weights of treatment over time; see frame_course().

score_course <- function(x, pooled, lags, given, call = rlang::caller_env()) {
  if (!is.null(x$weight)) abort_unsupported("This course already has weights.", call = call)
  refuse_stray(setdiff(given, c("x", "pooled", "lags")), "treatment over time",
               "Its scores are logits of each period's past; {.arg pooled} and {.arg lags} can be chosen.", call)
  check_flag(pooled, call = call)
  check_count(lags, min = 0, max = 20, arg = "lags", call = call)
  s <- sampling_weight(x$base)
  z <- as.double(x$base$z)
  free <- course_free(x)
  block <- function(rows) ifelse(rows, if (pooled) 1L else x$at$period, NA_integer_)
  past <- course_past(x, lags, pooled)
  treated <- fit_course(past, z, s, block(free), x, "treatment", call)
  planned <- fit_course(before_treatment(x), z, s, ifelse(free, x$at$period, NA_integer_), x, "numerator", call)
  stays <- stays_on(x)
  staying <- NULL
  if (any(stays == 0, na.rm = TRUE)) {
    own <- cbind(past, treated_now = z)
    at <- ifelse(!is.na(stays) & leaving_period(x, stays), if (pooled) 1L else x$at$period, NA_integer_)
    filled <- ifelse(is.na(stays), 0, stays)
    staying <- list(
      given = fit_course(own, filled, s, at, x, "staying", call),
      planned = fit_course(cbind(treated_now = z), filled, s, ifelse(is.na(at), NA_integer_, x$at$period), x,
                           "numerator",
                           call)
    )
  }
  score <- list(treated = treated, planned = planned, staying = staying, pooled = pooled, lags = lags,
                terms = colnames(past))
  label <- sprintf("scores of %s%s", if (pooled) "all periods together" else "each period by itself",
                   if (lags == 1) "" else sprintf(", %s back", plural(lags, "period")))
  step <- list(verb = "score", label = label, pooled = pooled, lags = lags)
  out <- new_course(x$base, x$at, x$roles, c(x$steps, list(step)), score)
  log_step(x$base, "score", label, sprintf("%d unit-periods", length(z)), list(pooled = pooled, lags = lags))
  out
}

# Rows in which treatment is not told by the period and the treatment before (one that never stops is).
course_free <- function(x) {
  z <- as.double(x$base$z)
  cell <- match(paste(x$at$period, treatment_before(x)), unique(paste(x$at$period, treatment_before(x))))
  share <- core_sums_by(z, cell) / tabulate(cell)
  (share > 0 & share < 1)[cell]
}

treatment_before <- function(x, back = 1L) before_rows(x, as.double(x$base$z), back)

# A row's value `back` periods earlier, 0 before the first.
before_rows <- function(x, values, back) {
  n <- length(values)
  if (back >= n) return(numeric(n))
  moved <- c(numeric(back), values[seq_len(n - back)])
  moved[x$at$period <= back] <- 0
  moved
}

before_treatment <- function(x) cbind(treated_before = treatment_before(x))

# What a period's score knows: covariates, what changes, both of earlier periods, and the period where they are pooled.
course_past <- function(x, lags, pooled) {
  columns <- column_vectors(x$base$columns)
  own <- do.call(cbind, columns)
  changing <- columns[vapply(names(columns), function(name) changes_over_time(x, name), NA)]
  earlier <- lapply(seq_len(max(1L, lags)), function(back) {
    moved <- cbind(treatment_before(x, back), do.call(cbind, lapply(changing[rep(back <= lags, length(changing))],
                                                                    before_rows, x = x, back = back)))
    colnames(moved) <- paste(c(x$base$roles$treatment, if (back <= lags) names(changing)), if (back == 1L) "before" else
      paste(back, "periods before"))
    moved
  })
  dummies <- if (pooled && length(x$at$periods) > 1L) {
    made <- outer(x$at$period, seq_along(x$at$periods)[-1L], `==`) + 0
    colnames(made) <- paste0(x$roles$time, ": ", x$at$periods[-1L])
    made
  }
  do.call(cbind, c(list(own), earlier, list(dummies)))
}

# Is a column of the model's matrix one of those that change?
changes_over_time <- function(x, name) any(name == x$roles$changing | startsWith(name, paste0(x$roles$changing, ": ")))

fit_course <- function(matrix, y, s, block, x, what, call) {
  if (all(is.na(block))) return(NULL)
  made <- core_fit_blocks(matrix, y, s, block)
  if (made$status == "converged") {
    named <- colnames(matrix)[made$aliased]
    repeated <- setdiff(named, grep(" before$|^treated_", named, value = TRUE))
    if (what == "treatment" && length(repeated) > 0L) {
      warn_kind("aliased", "The score leaves out {.val {repeated}}, which other terms already explain.",
                terms = repeated)
    }
    return(made)
  }
  if (made$status == "separated") {
    separating <- colnames(matrix)[abs(made$fit$direction) > 0.05 * max(abs(made$fit$direction))]
    abort_separation(c(
      "{if (what == 'staying') 'Leaving' else 'Treatment'} is told without error by {.val {separating}}.",
      x = "No finite score exists: some histories never meet.",
      i = "Use {.code pooled = TRUE}, fewer {.arg lags}, or leave {cli::qty(length(separating))}{?it/them} out."
    ), covariates = separating, call = call)
  }
  abort_convergence(c("A score of treatment over time did not converge.",
                      i = "Use {.code pooled = TRUE}, or look for columns on wildly different scales."), call = call)
}

# 1 where the unit is there in the next period, 0 where not, NA in the last.
stays_on <- function(x) {
  n <- length(x$at$unit)
  next_unit <- c(x$at$unit[-1L], 0L)
  ifelse(x$at$period == length(x$at$periods), NA, as.double(next_unit == x$at$unit))
}

# Periods after which some leave.
leaving_period <- function(x, stays) {
  leave <- core_sums_by(as.double(!is.na(stays) & stays == 0), x$at$period, length(x$at$periods)) > 0
  leave[x$at$period]
}

# Factors of each row's weight and the derivatives of its log in the linear scores behind it: list(factor, slopes).
course_factors <- function(x, stabilised = TRUE) {
  z <- as.double(x$base$z)
  own <- function(fit) ifelse(is.na(fit$fitted), 1, ifelse(z == 1, fit$fitted, 1 - fit$fitted))
  away <- function(fit, y) ifelse(is.na(fit$fitted), 0, y - fit$fitted)
  score <- x$score
  factor <- (if (stabilised) own(score$planned) else 1) / own(score$treated)
  slopes <- list(list(nuisance = score$treated$nuisance, slope = -away(score$treated, z)))
  if (stabilised) slopes <- c(slopes, list(list(nuisance = score$planned$nuisance, slope = away(score$planned, z))))
  if (!is.null(score$staying)) {
    chance <- function(fit) ifelse(is.na(fit$fitted), 1, fit$fitted)
    stay <- (if (stabilised) chance(score$staying$planned) else 1) / chance(score$staying$given)
    factor <- factor * before_factor(x, stay)
    slopes <- c(slopes, list(list(nuisance = score$staying$given$nuisance, slope = -away(score$staying$given, 1),
                                  later = TRUE)),
                if (stabilised) list(list(nuisance = score$staying$planned$nuisance,
                                          slope = away(score$staying$planned, 1), later = TRUE)))
  }
  list(factor = factor, slopes = slopes)
}

# The factor of having stayed belongs to the row after.
before_factor <- function(x, stay) {
  out <- c(1, stay[-length(stay)])
  out[x$at$period == 1L] <- 1
  out
}

weigh_course <- function(x, given, truncate, call = rlang::caller_env()) {
  if (!is.null(x$weight)) abort_unsupported("This course already has weights.", call = call)
  refuse_stray(setdiff(given, c("x", "truncate")), "treatment over time",
               "It gets stabilised inverse weights, which {.arg truncate} may cut.", call)
  if (is.null(x$score)) {
    abort_input(c("{.fn weigh_units} needs scores.", i = "Call {.fn score_units} first."), call = call)
  }
  truncate <- check_truncate(truncate, call)
  factors <- course_factors(x)
  running <- core_running_products(factors$factor, x$at$unit)
  s <- sampling_weight(x$base)
  limits <- limits_of_weights(running, s, truncate)
  cut <- pmin(pmax(running, limits[1L]), limits[2L])
  label <- sprintf("stabilised inverse weights%s%s", if (is.null(x$score$staying)) "" else " and weights for staying",
                   if (is.null(truncate)) "" else ", truncated")
  step <- list(verb = "weigh", label = label, truncate = truncate,
               cut = if (!is.null(truncate)) c(low = limits[1L], high = limits[2L], moved = sum(cut != running)))
  out <- new_course(x$base, x$at, x$roles, c(x$steps, list(step)), x$score, cut, list(free = cut == running))
  warn_heavy_courses(out)
  log_step(x$base, "weigh", label, sprintf("effective %.0f of %d units at the end", effective_courses(out),
                                           length(x$at$names)),
           list(truncate = unlist(truncate)), worst = worst_period_gap(out), design = out$hash)
  out
}

# Rows of the last period, with their full weights.
last_rows <- function(x) which(x$at$period == length(x$at$periods))

effective_courses <- function(x) {
  v <- (sampling_weight(x$base) * (if (is.null(x$weight)) 1 else x$weight))[last_rows(x)]
  core_effective_size_of(sum(v), sum(v^2))
}

warn_heavy_courses <- function(x) {
  rows <- last_rows(x)
  v <- sampling_weight(x$base)[rows] * x$weight[rows]
  heavy <- which(v > 0.1 * sum(v))
  if (length(heavy) == 0L || length(rows) < 20L) return(invisible(x))
  shown <- x$at$names[x$at$unit[rows[first_rows(heavy)]]]
  warn_kind("weights", c(
    "{length(heavy)} unit{?s} carr{?ies/y} more than a tenth of all weight at the end.",
    x = "First of them: {.val {shown}}.",
    i = "Their histories are unlikely for units like them: {.code truncate = c(quantile = 0.99)} cuts their weights."
  ))
}

# Who is treated against who is not, by period and by treatment before: a data frame with a row per period, group, row
# of the balance table and sample.
course_gaps <- function(x) {
  columns <- x$base$columns
  vectors <- unlist(lapply(unname(columns), column_indicators), recursive = FALSE)
  labels <- indicator_rows(columns)[c("covariate", "level")]
  s <- sampling_weight(x$base)
  treated <- x$base$z == 1L
  before <- treatment_before(x)
  cells <- lapply(seq_along(x$at$periods), function(t) {
    of_period <- which(x$at$period == t)
    weight <- s[of_period]
    sd <- vapply(vectors, function(v) {
      sqrt(core_variance_of(sum(weight), sum(weight^2), sum(weight * v[of_period]), sum(weight * v[of_period]^2)))
    }, 0)
    lapply(if (t == 1L) 0 else 0:1, function(was) {
      rows <- which(x$at$period == t & before == was & s > 0)
      if (sum(treated[rows]) < 2L || sum(!treated[rows]) < 2L) return(NULL)
      own <- lapply(vectors, `[`, rows)
      gaps <- function(v) core_period_gaps(own, treated[rows], v, sd)
      samples <- list(before = gaps(s[rows]), after = if (!is.null(x$weight)) gaps(s[rows] * x$weight[rows]))
      do.call(rbind, unname(Map(function(gap, sample) {
        data.frame(period = x$at$periods[t], had = if (t == 1L) "first period" else c("not treated before",
                                                                                      "treated before")[was + 1],
                   labels, sample = sample, treated = sum(treated[rows]), untreated = sum(!treated[rows]), smd = gap)
      }, Filter(Negate(is.null), samples), names(Filter(Negate(is.null), samples)))))
    })
  })
  out <- do.call(rbind, unlist(cells, recursive = FALSE))
  rownames(out) <- NULL
  out
}

worst_period_gap <- function(x) {
  rows <- course_gaps(x)
  size <- abs(rows$smd[rows$sample == rows$sample[nrow(rows)]])
  if (length(size) == 0L || all(is.na(size))) NA_real_ else max(size, na.rm = TRUE)
}

#' @rdname design_data
#' @export
weights.twin_course <- function(object, full = FALSE, ...) {
  rlang::check_dots_empty()
  check_flag(full)
  own <- if (is.null(object$weight)) rep(1, length(object$at$unit)) else object$weight
  on_all_rows(object, if (full) own * sampling_weight(object$base) else own, 0)
}

#' @export
nobs.twin_course <- function(object, ...) length(object$at$names)
