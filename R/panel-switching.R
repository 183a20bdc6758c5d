# Treatment that switches on and off, or moves between more than two values (de Chaisemartin & D'Haultfoeuille 2020,
# 2024): a unit's history is split at its first switch. Units are of one cohort where they began with the same
# treatment, first switched in the same period and in the same direction; they are compared with units that began alike
# and have not switched so far. cohorts then also has baseline (treatment when first seen) and direction (1 up, -1 down,
# 0 for those that stay), and the panel `switches`: list(value: treatment per row, back: how many of what is treated as
# a whole return to where they began, plain: has treatment two values?).

is_switching <- function(panel) !is.null(panel$switches)

# Onset (first switch), baseline and direction per row; see onset_by_treatment().
first_switches <- function(treatment, roles, treated, level, position, rows, one_row, call) {
  if (is.null(level)) {
    abort_input(c("Switches need units, or groups, that are seen over time.",
                  i = "Name {.arg unit}, or {.arg group} for what is treated as a whole."), call = call)
  }
  name <- roles$treatment
  read <- read_amounts(treatment, name, treated, rows, call)
  d <- read$value
  what <- level_name(roles)
  if (!one_row) check_whole_groups(d, level, position, what, name, rows, call)
  seen <- first_where(position, rep(TRUE, length(d)), level)
  first <- which(position == seen[level])
  base <- numeric(length(seen))
  base[level[first]] <- d[first]
  away <- d != base[level]
  onset <- first_where(position, away, level)
  at <- which(position == onset[level])
  direction <- numeric(length(seen))
  direction[level[at]] <- sign(d[at] - base[level[at]])
  last_before <- -first_where(-position, position < onset[level], level)
  warn_unsure_switch(onset, last_before, position, level, what)
  returned <- tabulate(level[position > onset[level] & !away], length(seen)) > 0L
  list(onset = onset[level], baseline = base[level], direction = direction[level], value = d, plain = read$plain,
       back = sum(returned), entered_treated = rep(FALSE, length(d)))
}

# Treatment as numbers: 0 and 1, or amounts. list(value, plain).
read_amounts <- function(x, name, treated, rows, call) {
  amounts <- is.numeric(x) && length(unique(x[!is.na(x)])) > 2L
  if (!amounts) {
    return(list(value = as.double(read_treatment(x, name, treated, rep(TRUE, length(x)), call)$z), plain = TRUE))
  }
  bad <- which(!is.finite(x))
  if (length(bad) > 0L) {
    abort_input(c("The treatment {.val {name}} must be finite.",
                  x = "It is not in {length(bad)} row{?s}; first: {first_rows(rows[bad])}."), column = name,
                rows = rows[bad], call = call)
  }
  list(value = as.double(x), plain = FALSE)
}

warn_unsure_switch <- function(onset, last_before, position, level, what) {
  unsure <- which(away_before(onset, last_before, position))
  if (length(unsure) == 0L) return(invisible())
  labels <- attr(level, "labels")[unsure]
  warn_kind("onset", c(
    "{length(unsure)} {what}{cli::qty(length(unsure))}{?s} {?is/are} not seen just before {?its/their} first switch is
     seen: {.val {first_rows(labels)}}.",
    i = "{cli::qty(length(unsure))}{?It counts/They count} as switched from then on."
  ), units = labels)
}

check_switchers <- function(found, position, roles, call) {
  onset <- found$onset
  if (!any(onset <= max(position))) {
    abort_input(c("There must be units whose treatment changes while they are seen.",
                  x = "{.val {roles$treatment}} is the same in all periods of every {level_name(roles)}."), call = call)
  }
  switched <- unique(found$baseline[is.finite(onset)])
  alone <- vapply(switched, function(start) length(unique(onset[found$baseline == start])) < 2L, NA)
  if (!all(alone)) return(invisible(found))
  abort_input(c("There must be units to compare switchers with: that began with the same treatment and switch later, or
                 never.", x = "All that began alike switch in the same period."), call = call)
}

# What cohorts are called: "2016Q1 on", "2016Q1 off", "2016Q1 from 2 up"; "stays off", "stays at 2".
switch_labels <- function(cohorts, plain, scale) {
  start <- if (plain) c("off", "on")[cohorts$baseline + 1] else paste("at", format(cohorts$baseline, trim = TRUE))
  move <- if (plain) c("off", "", "on")[cohorts$direction + 2] else
    paste("from", format(cohorts$baseline, trim = TRUE), c("down", "", "up")[cohorts$direction + 2])
  moved <- is.finite(cohorts$position)
  label <- paste("stays", start)
  label[moved] <- paste(onset_labels(cohorts$position[moved], scale), move[moved])
  label
}

# Which cohorts began with the treatment that cohort h began with.
began_alike <- function(panel, h) {
  if (!is_switching(panel)) return(rep(TRUE, nrow(panel$cohorts)))
  panel$cohorts$baseline == panel$cohorts$baseline[h]
}

# Signs that make a switch down count as one up is: one per cohort.
switch_signs <- function(panel) ifelse(panel$cohorts$direction < 0, -1, 1)

# By cohort and period: mean change of treatment since the start in the direction of the switch (`now`), and its sum
# over the periods since the switch (`so_far`). Cohorts x periods, NA before the switch.
treatment_changes <- function(panel) {
  cohort <- panel$cohort[panel$unit]
  cohorts <- nrow(panel$cohorts)
  s <- unit_weight(panel)[panel$unit]
  change <- (panel$switches$value - panel$cohorts$baseline[cohort]) * switch_signs(panel)[cohort]
  cell <- cohort + cohorts * (panel$time - 1L)
  size <- cohorts * nrow(panel$periods)
  now <- matrix(core_sums_by(s * change, cell, size) / core_sums_by(s, cell, size), cohorts)
  before <- outer(panel$cohorts$position, panel$periods$position, `>`)
  now[before] <- NA
  so_far <- t(apply(now, 1L, function(own) {
    out <- cumsum(ifelse(is.na(own), 0, own))
    replace(out, is.na(own), NA)
  }))
  list(now = now, so_far = matrix(so_far, cohorts))
}

# what, instead: in plain words.
refuse_switching <- function(panel, what, call = rlang::caller_env(), instead = NULL) {
  if (!is_switching(panel)) return(invisible(panel))
  if (is.null(instead)) instead <- "Frame units that never switch back, without {.code switching = TRUE}."
  abort_unsupported(c("{what} is for treatment that, once it has begun, stays.",
                      x = "This panel's {.val {panel$roles$treatment}} switches.", i = instead), call = call)
}
