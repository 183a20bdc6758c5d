# A panel of 40 harbours in 6 years: three cohorts (2003, 2004, 2006) and never, trends that differ by `depth`, effects
# that grow; weights constant within harbours, two harbours to a bay. gaps: leave out some rows and outcomes.
many_harbours <- function(n = 40, seed = 1, gaps = FALSE) {
  withr::with_seed(seed, {
    opened <- rep(c(2003, 2004, 2006, NA), length.out = n / 2)[rep(seq_len(n / 2), each = 2)]
    depth <- rnorm(n) - 0.5 * !is.na(opened)
    level <- rnorm(n)
    data <- expand.grid(year = 2001:2006, harbour = sprintf("h%02d", seq_len(n)))
    at <- as.integer(data$harbour)
    since <- data$year - opened[at]
    open <- !is.na(since) & since >= 0
    data$price <- level[at] + 0.2 * (data$year - 2001) * (1 + depth[at]) + ifelse(open, 1 + 0.5 * since, 0) +
      rnorm(nrow(data), sd = 0.3)
    data$opened <- opened[at]
    data$open <- as.integer(open)
    data$depth <- depth[at]
    data$bay <- (at + 1) %/% 2
    data$coast <- c("east", "west")[1 + at %% 2]
    data$s <- runif(n, 0.5, 2)[at]
    data$tide <- rnorm(nrow(data))
    if (gaps) {
      data <- data[-c(1, 27, 40, 128, 199), ]  # none just before an opening
      data$price[c(3, 90, 150)] <- NA
    }
    data
  })
}

harbour_panel <- function(data = many_harbours(), ...) {
  frame_panel(data, outcome = "price", time = "year", unit = "harbour", treatment = "open", ...)
}

# Other crews every year: several rows per harbour and year, and a harbour shock.
many_landings <- function(seed = 2, n = 40) {
  harbours <- many_harbours(n, seed)
  withr::with_seed(seed + 10, {
    data <- harbours[rep(seq_len(nrow(harbours)), 2 + rpois(nrow(harbours), 2)), ]
    data$boat <- rnorm(nrow(data)) + 0.3 * data$depth
    data$fresh <- rep_len(c("yes", "no", "yes"), nrow(data))
    data$value <- data$price - data$open * (data$fresh == "no") + 0.5 * data$boat + rnorm(nrow(data))
    data$s <- runif(nrow(data), 0.5, 2)
    rownames(data) <- NULL
    data
  })
}

landing_panel <- function(data = many_landings(), ...) {
  frame_panel(data, outcome = "value", time = "year", group = "harbour", treatment = "open", ...)
}

cell_of <- function(effect, cohort, time) {
  table <- tidy(effect)
  table[table$cohort == cohort & table$time == time, ]
}

# The change of mean price from base to time in one set of harbours less that in another.
two_by_two <- function(data, treated, control, time, base) {
  mean_of <- function(inside, year) mean(data$price[inside & data$year == year])
  change <- function(inside) mean_of(inside, time) - mean_of(inside, base)
  change(treated) - change(control)
}

# One row per harbour: price.2001, ..., tide.2001, ..., and what is constant.
wide_harbours <- function(data) {
  of <- function(name) {
    out <- as.data.frame(tapply(data[[name]], list(droplevels(data$harbour), data$year), mean))
    stats::setNames(out, paste0(name, ".", names(out)))
  }
  first <- data[match(levels(droplevels(data$harbour)), data$harbour), ]
  cbind(first[c("harbour", "opened", "depth", "bay", "s")], of("price"), of("tide"))
}

# Covariance of sums of contributions (a row per unit), cohort by cohort: cluster sums about the mean of their cohort,
# times G / (G - 1) of it. Clusters lie within cohorts.
cohort_wise_by_hand <- function(contributions, cohort, cluster = seq_along(cohort)) {
  cohort <- ifelse(is.na(cohort), "never", cohort)
  Reduce(`+`, lapply(split(seq_along(cohort), cohort), function(at) {
    sums <- rowsum(as.matrix(contributions)[at, , drop = FALSE], cluster[at])
    stats::cov(sums) * nrow(sums)
  }))
}

# Crews whose past income grows with their size; larger ones join sooner, so trends are parallel among alike crews only.
joining_crews <- function(n = 150, seed = 1, staggered = FALSE, effect = 0.5, periods = 6L) {
  with_own_seed(seed, {
    size <- rnorm(n)
    chance <- plogis(-0.5 + 0.8 * size)
    pick <- runif(n)
    first <- if (staggered) ifelse(pick < chance / 2, 3, ifelse(pick < chance, 5, Inf)) else ifelse(pick < chance, 4, Inf)
    data <- data.frame(crew = rep(sprintf("crew %03d", seq_len(n)), each = periods), year = rep(seq_len(periods), n),
                       size = rep(size, each = periods), first = rep(first, each = periods),
                       port = rep(sprintf("port %02d", seq_len(n) %% 30), each = periods))
    data$income <- rep(rnorm(n), each = periods) + 0.3 * data$size * data$year +
      effect * (data$year >= data$first) + rnorm(nrow(data), sd = 0.5)
    data
  })
}

joined_panel <- function(data, design = NULL, ...) {
  frame_panel(data, outcome = "income", time = "year", unit = "crew", first_treated = "first", design = design, ...)
}

# A unit's contribution is its weight times the derivative of the estimate in it, everything re-estimated.
contribution_gap <- function(make, data, column, units, weight = "s") {
  effect <- suppressWarnings(make(data))
  at <- which(effect$table$term %in% c("difference", "average"))
  own <- carefultwin:::core_contributions(effect$source, effect$combine[, at, drop = FALSE],
                                          if (!is.null(effect$shift)) effect$shift[, at, drop = FALSE])
  codes <- unique(data[[column]])
  expected <- vapply(units, function(i) {
    rows <- data[[column]] == codes[i]
    moved <- function(by) {
      data$s[rows] <- data$s[rows] * (1 + by)
      suppressWarnings(make(data))$estimate[[at]]
    }
    (moved(1e-4) - moved(-1e-4)) / 2e-4
  }, 0)
  max(abs(own[units, 1] - expected)) / max(abs(expected))
}
