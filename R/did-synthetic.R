# The synthetic comparison as an estimator over time (core-synthetic.R): each cohort against a weighted mean of units
# never treated, cell by cell. It is ranked among placebos; contributions are those of means with the weights held,
# which is the paper's jackknife.

estimate_synthetic <- function(panel, y, asked, call) {
  check_synthetic(panel, call)
  wide <- wide_outcome(panel, y)$y
  s <- unit_weight(panel)
  found <- synthetic_cells(panel, wide, s, asked, call)
  cells <- found$cells
  made <- found$made
  parts <- Map(function(time, one) {
    if (is.null(one$reason)) synthetic_contributions(one, wide, s, time) else list(rows = integer(), values = numeric())
  }, cells$time, made[match(cells$cohort, vapply(made, `[[`, 0L, "cohort"))])
  source <- core_row_source(s, panel$cohort, lapply(parts, `[[`, "rows"), lapply(parts, `[[`, "values"),
                            cells[c("cohort", "event_time")])
  failed <- vapply(made, function(one) !is.null(one$reason), NA)
  inside <- seq_along(s) %in% unlist(lapply(made, `[[`, "treated"))
  gone <- length(unique(unlist(lapply(made, `[[`, "gaps"))))
  list(cells = cells, estimate = cells$estimate, source = source,
       size = core_sums_by(s * inside, panel$cohort, nrow(panel$cohorts)), fixed = FALSE, cluster = panel$cluster,
       synthetic = stats::setNames(made, panel$cohorts$label[vapply(made, `[[`, 0L, "cohort")])[!failed],
       notes = if (gone > 0) sprintf("%s not seen with an outcome in every period left out", plural(gone, "unit")))
}

# list(cells with their estimates, made: per cohort what synthetic_cohort() gives). wide: units x periods.
synthetic_cells <- function(panel, wide, s, asked, call) {
  seen <- !is.na(wide) & s > 0
  pool <- which(panel$cohorts$position[panel$cohort] == Inf & rowSums(seen) > 0)
  position <- panel$periods$position
  treated <- Filter(function(h) any(panel$cohort == h & rowSums(seen) > 0), which(is_treated_cohort(panel)))
  made <- lapply(treated, function(h) {
    synthetic_cohort(h, which(panel$cohort == h & rowSums(seen) > 0), pool, wide, seen, s,
                     panel$cohorts$position[h] - position, asked)
  })
  cells <- do.call(rbind, Map(function(h, one) {
    if (length(one$after) == 0L) return(NULL)
    known <- is.null(one$reason)
    data.frame(cohort = h, time = one$after, base = NA_integer_,
               event_time = position[one$after] - panel$cohorts$position[h], kind = "post",
               reason = if (known) NA_character_ else one$reason,
               estimate = if (known) one$gap[one$after] else NA_real_,
               n_treated = as.double(one$count), n_comparison = as.double(length(one$used)))
  }, treated, made))
  if (is.null(cells)) abort_input("No cohort is seen under treatment with an outcome.", call = call)
  rownames(cells) <- NULL
  list(cells = cells, made = made)
}

check_synthetic <- function(panel, call) {
  if (!panel$repeats) {
    abort_unsupported(c("A synthetic comparison follows units, and those of a repeated cross-section are seen once.",
                        i = "Take means of groups: {.code collapse = \"groups\"}."), call = call)
  }
  if (!any(panel$cohorts$position == Inf)) {
    abort_input(c("A synthetic comparison is made of units that are never treated; there are none.",
                  i = "End the panel, with {.arg subset}, before the last cohort is treated: it then never is."),
                call = call)
  }
}

# treated: units of the cohort; pool: units never treated; seen: units x periods; ahead: periods from each period to the
# onset. The periods are those in which any of the treated is seen; units with gaps among them are left out.
# list(cohort, count, treated, used: units, weight: of these, before, after: periods, gaps: units left out, ...) as
# core_synthetic(), or reason.
synthetic_cohort <- function(h, treated, pool, wide, seen, s, ahead, asked) {
  times <- which(colSums(seen[treated, , drop = FALSE]) > 0)
  whole <- function(units) units[rowSums(!seen[units, times, drop = FALSE]) == 0]
  before <- times[ahead[times] > asked$anticipation]
  after <- times[ahead[times] <= 0]
  own <- whole(treated)
  others <- whole(pool)
  told <- list(cohort = h, count = length(own), used = integer(), treated = own, before = before, after = after,
               gaps = setdiff(c(treated, pool), c(own, others)))
  reason <- if (length(own) == 0L) "no treated unit is seen in every period" else
    if (length(others) < 2L) "fewer than two units never treated are seen in every period" else
      if (length(before) < 2L) "fewer than two periods before treatment to learn weights from" else
        if (length(after) == 0L) "no period under treatment"
  if (!is.null(reason)) return(c(told, list(reason = reason)))
  path <- drop(crossprod(s[own], wide[own, , drop = FALSE])) / sum(s[own])
  found <- core_synthetic(t(wide[others, , drop = FALSE]), path, before, after, s[others], length(own), asked$parallel)
  used <- found$weight > 1e-9
  utils::modifyList(told, list(
    used = others[used], weight = found$weight[used] / sum(found$weight[used]), period_weight = found$period_weight,
    gap = found$gap, path = path
  ))
}

# Of one cell: the outcome less its weighted mean before, about the mean of each side; a unit that carries much moves
# the mean of the others when it leaves.
synthetic_contributions <- function(one, wide, s, time) {
  from <- function(units) {
    own <- wide[units, time]
    if (!is.null(one$period_weight)) own <- own - drop(wide[units, one$before, drop = FALSE] %*% one$period_weight)
    own
  }
  share <- s[one$treated] / sum(s[one$treated])
  d <- from(one$treated)
  others <- from(one$used)
  rows <- c(one$treated, one$used)
  values <- c(share * (d - sum(share * d)),
              -one$weight * (others - sum(one$weight * others)) / pmax(1 - one$weight, 1e-8))
  order <- order(rows)
  list(rows = rows[order], values = values[order])
}

# Root mean squares of the gap before and after: the fit, and what stands out against it.
synthetic_fit <- function(synthetic) {
  rms <- function(one, at) sqrt(mean(one$gap[at]^2))
  data.frame(cohort = names(synthetic), treated = vapply(synthetic, `[[`, 0L, "count"),
             units = lengths(lapply(synthetic, `[[`, "used")),
             effective = vapply(synthetic, function(one) 1 / sum(one$weight^2), 0),
             gap_before = vapply(synthetic, function(one) rms(one, one$before), 0),
             gap_after = vapply(synthetic, function(one) rms(one, one$after), 0), row.names = NULL)
}

# Placebos: treatment given to units (or groups) never treated, as many as there are treated ones, those left out; each
# cohort keeps its date. Every term is measured in the fit of its own placebo before treatment, and ranked. With a
# single treated unit all others take its place in turn, or of very many as many drawn ones as asked for. The spread of
# placebos is the standard error of several.
rank_placebos <- function(effect, panel, y, asked, call) {
  level <- if (!is.null(panel$group)) panel$group else seq_along(panel$cohort)
  level <- match(level, unique(level))
  cohort <- panel$cohort[!duplicated(level)]
  never <- which(panel$cohorts$position[cohort] == Inf)
  treated <- which(is_treated_cohort(panel)[cohort])
  if (length(never) < length(treated) + 2L) {
    abort_unsupported(c("Placebos need more units never treated than treated ones.",
                        x = "There are {length(never)}, and {length(treated)} treated.",
                        i = "Use {.code inference = \"analytic\"}, which holds the weights, or \"bootstrap\"."),
                      call = call)
  }
  alone <- length(treated) == 1L
  each <- alone && length(never) <= asked$draws
  s <- unit_weight(panel)
  whole <- wide_outcome(panel, y)$y
  hidden <- whole
  hidden[level %in% treated, ] <- NA
  unseen <- lapply(seq_len(nrow(panel$cohorts)), function(h) {
    which(colSums(!is.na(whole[panel$cohort == h, , drop = FALSE])) == 0)
  })
  stayed <- panel$cohorts$position == Inf
  one <- function(k) {
    chosen <- if (each) never[k] else with_own_seed(sub_seed(asked$seed, "placebo", k), sample(never, length(treated)))
    moved <- panel$cohort
    moved[level %in% treated] <- which(stayed)[1L]  # hidden: they take no part
    given <- match(level, chosen)
    moved[!is.na(given)] <- cohort[treated][given[!is.na(given)]]
    tryCatch(suppressWarnings({
      wide <- hidden
      # in the periods of those they stand for
      for (unit in which(!is.na(given))) wide[unit, unseen[[moved[unit]]]] <- NA
      found <- synthetic_cells(amend(panel, cohort = moved), wide, s, asked, call)
      c(found$cells$estimate, placebo_scale(found$made))
    }), twin_error = function(e) rep(NA_real_, nrow(effect$cells) + 1L))
  }
  draws <- run_draws("Placebos", if (each) length(never) else asked$draws, nrow(effect$cells) + 1L, one)
  known <- which(!is.na(effect$cells$estimate))
  good <- rowSums(is.na(draws[, c(known, ncol(draws)), drop = FALSE])) == 0
  check_draws(draws[, known, drop = FALSE], nrow(draws), call)
  draws <- draws[good, , drop = FALSE]
  what <- if (!is.null(panel$group)) panel$roles$group else panel$roles$unit
  words <- sprintf("p-values are ranks among %s%s", plural(nrow(draws), "placebo"), if (each)
    sprintf(": each other %s in the place of the treated one", what) else
      sprintf(" of %s drawn from those never treated (seed %s)", plural(length(treated), what), format(asked$seed)))
  words <- paste0(if (alone) paste0("none for a single treated ", what) else
    "the spread of placebos, as if the treated varied like them", "; ", words)
  effect <- amend_effect(effect, inference = words, draws = list(
    placebos = draws[, -ncol(draws), drop = FALSE], scale = draws[, ncol(draws)], own = placebo_scale(effect$synthetic),
    alone = alone
  ))
  with_placebo_ranks(effect, NULL)
}

placebo_scale <- function(synthetic) {
  past <- unlist(lapply(synthetic, function(one) {
    if (is.null(one$reason)) rep(sqrt(mean(one$gap[one$before]^2)), one$count)
  }))
  sqrt(mean(past^2))
}

# The effect, of cells (plan NULL) or averages of them, with the ranks as p-values.
with_placebo_ranks <- function(effect, plan) {
  known <- effect$draws
  estimates <- known$placebos
  if (!is.null(plan)) {
    estimates <- do.call(rbind, lapply(seq_len(nrow(estimates)), function(b) {
      did_averages(effect, plan, effect$over, effect$size, replace(estimates[b, ], is.na(estimates[b, ]), 0))$estimate
    }))
  }
  far <- abs(estimates) / known$scale
  own <- abs(effect$table$estimate) / known$own
  p <- vapply(seq_along(own), function(j) (1 + sum(far[, j] >= own[j] * (1 - 1e-12))) / (1 + nrow(far)), 0)
  unknown <- known$alone | is.na(own)
  vcov <- stats::cov(estimates)
  vcov[unknown, ] <- NA_real_
  vcov[, unknown] <- NA_real_
  amend_effect(effect, p.value = ifelse(is.na(own), NA_real_, p), vcov = vcov, df = rep(Inf, length(own)),
               alone = character(), lent = FALSE)
}
