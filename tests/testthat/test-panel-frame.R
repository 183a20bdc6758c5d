test_that("a treatment column and a column of first periods tell the same timing", {
  data <- many_harbours()
  by_treatment <- summary(harbour_panel(data))
  by_column <- summary(frame_panel(data, outcome = "price", time = "year", unit = "harbour", first_treated = "opened"))
  expect_identical(by_treatment, by_column)
  expect_identical(by_treatment$cohort, c("2003", "2004", "2006", "never"))
  expect_identical(by_treatment$units, c(10L, 10L, 10L, 10L))
  expect_identical(by_treatment$untreated_to, c("2002", "2003", "2005", "2006"))
  expect_identical(by_treatment$treated_from, c("2003", "2004", "2006", NA))
})

test_that("never treated may be written as nothing, 0, Inf or never", {
  data <- many_harbours()
  for (value in list(0, Inf)) {
    data$since <- ifelse(is.na(data$opened), value, data$opened)
    panel <- frame_panel(data, outcome = "price", time = "year", unit = "harbour", first_treated = "since")
    expect_identical(panel$cohorts$label, c("2003", "2004", "2006", "never"))
  }
  data$since <- ifelse(is.na(data$opened), "Never", data$opened)
  expect_identical(frame_panel(data, outcome = "price", time = "year", unit = "harbour", first_treated = "since")$cohorts$position,
                   c(3, 4, 6, Inf))
})

test_that("where no unit repeats it is a repeated cross-section, and the print says so", {
  data <- many_landings()
  data$crew <- seq_len(nrow(data))
  with_id <- frame_panel(data, outcome = "value", time = "year", unit = "crew", group = "harbour", treatment = "open")
  expect_false(with_id$repeats)
  expect_match(paste(format(with_id), collapse = " "), "repeated cross-section")
  expect_match(paste(format(harbour_panel()), collapse = " "), "a panel: 40 units \\(harbour\\)")
})

test_that("time may be numbers with gaps, dates, quarters, ordered factors or text with an order", {
  data <- many_harbours()
  expect_position <- function(time, expected, ...) {
    data$when <- time[data$year - 2000]
    panel <- frame_panel(data, outcome = "price", time = "when", unit = "harbour", treatment = "open", ...)
    expect_identical(panel$periods$position, as.double(expected))
    panel
  }
  expect_position(c(2001, 2003, 2005, 2007, 2009, 2011), 1:6)
  gap <- expect_position(c(2001, 2002, 2003, 2004, 2006, 2007), c(1:4, 6, 7))
  expect_match(gsub("\\s+", " ", paste(format(gap), collapse = " ")), "1 period in between has nobody")
  expect_position(as.Date(sprintf("2020-%02d-01", c(1, 4, 7, 10, 11, 12))), c(1, 4, 7, 10, 11, 12))
  expect_position(c("2020Q3", "2020Q4", "2021Q1", "2021Q2", "2021Q3", "2021Q4"), 1:6)
  for (quarters in c("Q%2$d %1$d", "%d Q%d", "%2$d/%1$d", "%d-Q%d", "Q%2$d/%1$d")) {
    expect_position(sprintf(quarters, c(2020, 2020, 2021, 2021, 2021, 2021), c(3, 4, 1:4)), 1:6)
  }
  for (months in c("Nov 2020,Dec 2020,Jan 2021,Feb 2021,Mar 2021,Apr 2021", "11/2020,12/2020,1/2021,2/2021,3/2021,4/2021",
                   "2020 november,2020 december,2021 january,2021 february,2021 march,2021 april")) {
    expect_position(strsplit(months, ",")[[1]], 1:6)
  }
  expect_position(factor(letters[1:6], ordered = TRUE), 1:6)
  dawn <- expect_position(c("dawn", "noon", "dusk", "night", "late", "last"), 1:6,
                          periods = c("dawn", "noon", "dusk", "night", "late", "last"))
  expect_identical(dawn$cohorts$label, c("dusk", "night", "last", "never"))
  irregular <- expect_position(c(1, 2.5, 7.1, 9, 12, 13), 1:6)
  expect_identical(irregular$cohorts$label[1], "7.1")
  data$when <- c("dawn", "noon", "dusk", "night", "late", "last")[data$year - 2000]
  expect_error(frame_panel(data, outcome = "price", time = "when", unit = "harbour", treatment = "open"), "order",
               class = "twin_error_input")
  expect_error(frame_panel(data, outcome = "price", time = "when", unit = "harbour", treatment = "open", periods = c("dawn", "noon")),
               "dusk", class = "twin_error_input")
})

test_that("treatment that switches off is refused and the units are named", {
  data <- many_harbours()
  data$open[data$harbour == "h03" & data$year == 2006] <- 0
  data$open[data$harbour == "h01" & data$year == 2005] <- 0
  error <- expect_error(harbour_panel(data), class = "twin_error_input")
  expect_identical(error$units, c("h01", "h03")[c(TRUE, data$opened[data$harbour == "h03"][1] < 2006)])
})

test_that("a group treated in part is refused", {
  data <- many_landings()
  data$open[which(data$open == 1)[2]] <- 0L
  error <- expect_error(landing_panel(data), "treated alike", class = "twin_error_input")
  expect_length(error$units, 1)
})

test_that("repeated rows, missing units and missing times are errors with rows", {
  data <- many_harbours()
  error <- expect_error(harbour_panel(rbind(data, data[7, ])), class = "twin_error_input")
  expect_identical(error$rows, 241L)
  data$harbour[3] <- NA
  expect_error(harbour_panel(data), "harbour", class = "twin_error_input")
  data <- many_harbours()
  data$year[9] <- NA
  expect_identical(expect_error(harbour_panel(data), class = "twin_error_input")$rows, 9L)
})

test_that("units treated in their first period are set aside, with a warning", {
  data <- many_harbours()
  data$open[data$harbour == "h01"] <- 1L
  warning <- expect_warning(panel <- harbour_panel(data), class = "twin_warning_always_treated")
  expect_identical(warning$units, "h01")
  expect_length(panel$cohort, 39)
  expect_identical(panel$dropped, c("treated when first seen" = 6L))
})

test_that("a unit that is away when treatment begins is reported", {
  data <- many_harbours()
  expect_warning(panel <- harbour_panel(data[!(data$harbour == "h01" & data$year == 2003), ]), class = "twin_warning_onset")
  expect_identical(panel$cohort[1], 2L)
  expect_warning(harbour_panel(data[data$year != 2003, ]), NA)
  since <- frame_panel(data[!(data$harbour == "h01" & data$year == 2003), ], outcome = "price", time = "year", unit = "harbour",
                       first_treated = "opened")
  expect_identical(since$cohort[1], 1L)
})

test_that("rows without treatment status are left out with a warning", {
  data <- many_harbours()
  data$open[c(4, 43)] <- NA
  expect_warning(panel <- harbour_panel(data), class = "twin_warning_dropped")
  expect_identical(nobs(panel), 238L)
  expect_match(paste(format(panel), collapse = " "), "2 unit-periods are absent")
})

test_that("a panel needs both sides, and one way of saying who is treated", {
  data <- many_harbours()
  expect_error(harbour_panel(data[data$open == 0, ]), class = "twin_error_input")
  expect_error(harbour_panel(data[data$opened %in% 2004, ]), "compare", class = "twin_error_input")
  expect_error(frame_panel(data, outcome = "price", time = "year", unit = "harbour"), "one of", class = "twin_error_input")
  expect_error(frame_panel(data, outcome = "price", time = "year", unit = "harbour", treatment = "open", first_treated = "opened"),
               "one of", class = "twin_error_input")
  data$opened[1] <- 2005
  expect_error(frame_panel(data, outcome = "price", time = "year", unit = "harbour", first_treated = "opened"), "same in all rows",
               class = "twin_error_input")
  expect_error(frame_panel(many_landings(), outcome = "value", time = "year", treatment = "open"), "group", class = "twin_error_input")
  expect_error(harbour_panel(many_harbours(), covariates = "price"), "covariates", class = "twin_error_input")
  expect_error(harbour_panel(many_harbours(), cluster = "year"), "same in all rows", class = "twin_error_input")
})

test_that("plots show timing, means and changes, and only the last two open the outcome", {
  panel <- harbour_panel()
  tiles <- ggplot2::layer_data(plot(panel))
  expect_identical(nrow(tiles), 240L)
  expect_identical(sum(tiles$fill == carefultwin:::twin_colours[["treated"]]), sum(many_harbours()$open))
  expect_true(is.na(summary(logbook(panel))$opened))
  means <- ggplot2::layer_data(plot(panel, "means"), 3)  # starts, intervals, means
  data <- many_harbours()
  expect_equal(sort(means$y), sort(as.vector(tapply(data$price, list(data$opened, data$year), mean))[1:18] |>
                                     c(tapply(data$price[is.na(data$opened)], data$year[is.na(data$opened)], mean)) |>
                                     unname()))
  expect_false(is.na(summary(logbook(panel))$opened))
  around <- carefultwin:::aligned_means(panel, carefultwin:::panel_values(panel, "price", "test"))
  expect_equal(around$mean[around$side == "treated" & around$event_time == -1], 0)
  one <- frame_panel(data[data$opened %in% c(2004, NA), ], outcome = "price", time = "year", unit = "harbour", treatment = "open")
  own <- carefultwin:::aligned_means(one, carefultwin:::panel_values(one, "price", "test"))
  gap <- own$mean[own$side == "treated" & own$event_time == 1] - own$mean[own$side == "comparison" & own$event_time == 1]
  expect_equal(gap, two_by_two(data, data$opened %in% 2004, is.na(data$opened), 2005, 2003))
})
