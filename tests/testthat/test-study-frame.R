frame <- function(data = many_crews(), treatment = "joined", outcome = "income", covariates = c("boat", "port"), ...) {
  frame_study(data, treatment, outcome, covariates, ...)
}

test_that("a study knows which level is treated without being told for 1 and TRUE, and as told otherwise", {
  data <- many_crews()
  expect_identical(frame(data)$levels, c(treated = "1", control = "0"))
  data$joined <- data$joined == 1
  expect_identical(frame(data)$levels, c(treated = "TRUE", control = "FALSE"))
  data$joined <- ifelse(data$joined, "member", "alone")
  expect_identical(frame(data, treated = "alone")$z, as.integer(data$joined == "alone"))
})

test_that("a treatment whose levels must be named says which levels there are and how often", {
  data <- many_crews()
  data$joined <- ifelse(data$joined == 1, "member", "alone")
  counts <- table(data$joined)
  error <- expect_error(frame(data), class = "twin_error_input")
  expect_match(conditionMessage(error), sprintf("\"alone\" \\(%d rows\\)", counts[["alone"]]))
  expect_match(conditionMessage(error), "treated = \"member\"")
  expect_identical(error$levels, c("alone", "member"))
})

test_that("a formula and names give the same study matrix, and the dot is everything else", {
  data <- many_crews()[c("joined", "income", "boat", "past", "port")]
  by_name <- study_matrix(frame(data, covariates = c("boat", "past", "port")))
  expect_identical(study_matrix(frame(data, covariates = ~ boat + past + port)), by_name)
  expect_identical(study_matrix(frame(data, covariates = ~ .)), by_name)
})

test_that("formula terms enter the model matrix under readable names", {
  study <- frame(covariates = ~ port + poly(boat, 2) + I(past^2) + boat:port)
  expect_setequal(names(study$columns), c("port", "boat", "past"))
  matrix <- study_matrix(study)
  expect_identical(colnames(matrix)[1:2], c("port: medium", "port: small"))
  expect_equal(unname(matrix[, "I(past^2)"]), many_crews()$past^2)
})

test_that("missing covariates are filled and flagged, dropped, or refused", {
  data <- many_crews()
  data$boat[c(3, 8)] <- NA
  data$port[5] <- NA
  study <- frame(data)
  expect_equal(study$columns$boat$values[3], mean(data$boat, na.rm = TRUE))
  expect_identical(which(study$columns$boat$flag == 1), c(3L, 8L))
  expect_identical(study$columns$port$levels[study$columns$port$values[5]], "(missing)")
  expect_identical(setdiff(1:300, frame(data, missing = "drop")$rows), c(3L, 5L, 8L))
  error <- expect_error(frame(data, missing = "stop"), class = "twin_error_input")
  expect_identical(error$rows, c(3L, 5L, 8L))
  expect_match(conditionMessage(error), "\"boat\" \\(2\\) and \"port\" \\(1\\)")
})

test_that("the filled mean uses the sampling weight", {
  data <- many_crews()
  data$boat[3] <- NA
  expect_equal(frame(data, weight = "s")$columns$boat$values[3], weighted.mean(data$boat[-3], data$s[-3]))
})

test_that("strings, logicals, ordered, dates and labelled columns just work", {
  data <- many_crews()
  data$afloat <- data$boat > 0
  data$size <- factor(data$port, levels = c("small", "medium", "large"), ordered = TRUE)
  data$since <- as.Date("2020-01-01") + seq_len(300)
  data$gear <- structure(rep(1:3, 100), labels = c(nets = 1, lines = 2, pots = 3), label = "main gear",
                         class = c("haven_labelled", "vctrs_vctr", "integer"))
  study <- frame(data, covariates = c("afloat", "size", "since", "gear"))
  expect_identical(vapply(study$columns, `[[`, "", "kind"),
                   c(afloat = "binary", size = "factor", since = "date", gear = "factor"))
  expect_identical(study$columns$gear$levels, c("nets", "lines", "pots"))
  expect_identical(study$columns$gear$label, "main gear")
  expect_identical(ncol(study_matrix(study)), 6L)
  expect_no_error(score_units(study))
})

test_that("a subset may be a formula, a condition or rows, and weights stay aligned with the data", {
  data <- many_crews()
  wanted <- which(data$boat > 0)
  expect_identical(frame(data, subset = ~ boat > 0)$rows, wanted)
  expect_identical(frame(data, subset = data$boat > 0)$rows, wanted)
  study <- frame(data, subset = wanted)
  w <- weights(weigh_units(score_units(study)))
  expect_identical(which(w > 0), wanted)
  expect_length(w, 300)
})

test_that("rows without a treatment are left out with a warning that names them", {
  data <- many_crews()
  data$joined[c(4, 9)] <- NA
  expect_warning(study <- frame(data), "2 rows are left out", class = "twin_warning_dropped")
  expect_identical(setdiff(1:300, study$rows), c(4L, 9L))
})

test_that("two-valued outcomes say what counts as 1, or ask", {
  data <- many_crews()
  data$sold <- ifelse(data$direct == 1, "yes", "no")
  data$kept <- ifelse(data$direct == 1, "inland", "coast")
  expect_identical(frame(data, outcome = "sold")$events$sold, "yes")
  expect_error(frame(data, outcome = "kept"), "Which value of the outcome", class = "twin_error_input")
  study <- frame(data, outcome = c("sold", "kept"), event = c(kept = "inland"))
  expect_equal(coef(measure_effect(study, "kept")), coef(measure_effect(study, "sold")))
})

test_that("data.table and tibble-like data give the same study, and 64-bit integers are refused", {
  data <- many_crews()
  plain <- study_matrix(frame(data, covariates = ~ .^2, subset = 1:200) |> suppressWarnings())
  table <- data.table::as.data.table(data)
  expect_identical(study_matrix(frame(table, covariates = ~ .^2, subset = 1:200)), plain)
  expect_s3_class(table, "data.table")
  data$big <- structure(runif(300), class = "integer64")
  expect_error(frame(data, covariates = "big"), "64-bit integers", class = "twin_error_input")
})

expect_refused <- function(object, pattern) expect_error(object, pattern, class = "twin_error_input")

test_that("unknown columns are refused with the nearest name", {
  expect_refused(frame(covariates = c("baot", "port")), "no column \"baot\".*\n.*Did you mean \"boat\"")
  expect_refused(frame(treatment = "jioned"), "Did you mean \"joined\"")
  expect_refused(frame(outcome = "incme"), "Did you mean \"income\"")
  expect_refused(frame(cluster = "harbor"), "Did you mean \"harbour\"")
  expect_refused(frame(covariates = ~ boat + prt), "Did you mean \"port\"")
})

test_that("treatments without two values are refused with their values", {
  data <- many_crews()
  data$three <- rep(c("a", "b", "c"), 100)
  data$one <- 1
  expect_refused(frame(data, "three"), "has 3: \"a\" \\(100 rows\\)")
  expect_refused(frame(data, "one"), "has 1: \"1\" \\(300 rows\\)")
  expect_refused(frame(data, treated = "5"), "must be one of the two values")
})

test_that("an arm with fewer than 2 units is refused, saying what was left out", {
  data <- many_crews()
  data$joined <- as.integer(seq_len(300) == 7)
  expect_refused(frame(data), "treated arm \\(\"1\"\\) has 1")
  data <- many_crews()
  one <- c(which(data$joined == 0), which(data$joined == 1)[1])
  expect_refused(frame(data, subset = one), "has 1.*\n.*Left out: [0-9]+ outside the subset")
})

test_that("clashing roles are refused", {
  expect_refused(frame(covariates = c("boat", "income")), "outcome \"income\" can't be among the covariates")
  expect_refused(frame(covariates = c("boat", "joined")), "treatment \"joined\" can't be among the covariates")
  expect_refused(frame(outcome = "joined"), "can't be both treatment and outcome")
})

test_that("constant, empty, infinite and identifier covariates are refused", {
  data <- many_crews()
  data$same <- 3
  data$empty <- NA_real_
  data$far <- replace(data$boat, 12, Inf)
  data$name <- sprintf("crew %d", 1:300)
  expect_refused(frame(data, covariates = "same"), "\"same\" can't be adjusted for: it is constant")
  expect_refused(frame(data, covariates = "empty"), "\"empty\" has no values: all 300 are missing")
  expect_refused(frame(data, covariates = "far"), "1 value is infinite; first rows: 12")
  expect_refused(frame(data, covariates = "name"), "looks like an identifier: 300 different values")
})

test_that("bad weights are refused with their rows", {
  data <- many_crews()
  data$s[c(2, 9)] <- c(NA, -1)
  expect_refused(frame(data, weight = "s"), "1 is missing or infinite and 1 negative.*first rows: 2 and 9")
  data$s <- ifelse(data$joined == 1, 0, 1)
  expect_refused(frame(data, weight = "s"), "are 0 in the treated arm")
  expect_refused(frame(weight = "port"), "must be numbers")
})

test_that("repeated ids and missing clusters are refused with their rows", {
  data <- many_crews()
  data$id <- c(1:299, 1)
  expect_refused(frame(data, id = "id"), "1 id repeats: \"1\".*first repeated rows: 300")
  data$harbour[6] <- NA
  expect_refused(frame(data, cluster = "harbour"), "1 row; first: 6")
})

test_that("other shapes of bad input are refused", {
  expect_refused(frame_study(1, "a", "b", "c"), "must be a data frame")
  expect_refused(frame(many_crews()[0, ]), "must have rows")
  expect_refused(frame(covariates = income ~ boat), "income.*on its left")
  expect_refused(frame(covariates = ~ boat - 1), "keep its intercept")
  expect_refused(frame(covariates = ~ log(boat)), "finite number in every row") |> suppressWarnings()
  expect_refused(frame(covariates = 3), "column names in quotes")
  expect_refused(frame(estimand = "AT"), "Did you mean \"ATT\"")
  expect_refused(frame(subset = "boat"), "one-sided formula, a logical vector")
})

test_that("the print of a study fits 80 columns and says everything", {
  data <- many_crews()
  data$port[1:4] <- NA
  study <- frame(data, weight = "s", cluster = "harbour", stratum = "coast", subset = ~ boat > -1)
  expect_lte(max(nchar(format(study))), 80)
  expect_snapshot(study)
})

test_that("a subset keeps the columns' labels", {
  study <- frame_study(crews, "joined", "income", "boat_length", subset = ~ port_size == "large")
  expect_lt(length(study$rows), nrow(crews))
  expect_identical(study$columns$boat_length$label, attr(crews$boat_length, "label"))
  expect_false(is.null(study$columns$boat_length$label))
})

test_that("many columns with missing values are summed up, few are listed", {
  data <- many_crews(100)
  for (k in 1:9) {
    data[[paste0("q", k)]] <- rnorm(100)
    data[[paste0("q", k)]][seq_len(k)] <- NA
  }
  names <- paste0("q", 1:9)
  few <- gsub("\\s+", " ", paste(format(frame_study(data, "joined", "income", names[1:2])), collapse = " "))
  expect_match(few, "q1 1 (mean filled in, plus an indicator); q2 2 (mean", fixed = TRUE)
  many <- gsub("\\s+", " ", paste(format(frame_study(data, "joined", "income", names)), collapse = " "))
  expect_match(many, "45 values in 9 columns, most in q9 (9), q8 (8) and q7 (7); means filled in, plus an indicator each, in 9 of them",
               fixed = TRUE)
})

test_that("instruments and cut-offs are told to be out of scope, other strays with the nearest name", {
  study <- function(...) frame_study(crews, treatment = "joined", outcome = "income", ...)
  panel <- function(...) frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store", ...)
  for (frame in list(study, panel)) {
    expect_error(frame(instrument = "distance"), "Instruments and cut-offs are out of scope", class = "twin_error_unsupported")
    expect_error(frame(cutoff = 3), "out of scope", class = "twin_error_unsupported")
    expect_error(frame(covariatez = "a"), "no argument `covariatez`.*Did you mean `covariates`", class = "twin_error_input")
    expect_error(frame(zzzzzzzzzzz = "a"), "help page lists", class = "twin_error_input")
  }
  expect_error(do.call(frame_panel, c(list(harbours), rep(list(NULL), 30))), class = "twin_error_input")
})

test_that("text in the session's own encoding is told apart and sorted as UTF-8", {
  soil <- rep(c("L\u00f6ss", "L\u00fcck", "Kies"), 20)
  native <- soil
  Encoding(native) <- "unknown"  # as read.csv(fileEncoding = ) leaves it
  data <- data.frame(soil = native, net = rep(c("ja", "nein"), 30), crop = seq_len(60))
  expect_identical(tidy(frame_study(data, "net", "crop", "soil", treated = "ja")),
                   tidy(frame_study(transform(data, soil = soil), "net", "crop", "soil", treated = "ja")))
  expect_identical(levels(text_to_factor(native)), c("Kies", "L\u00f6ss", "L\u00fcck"))
})
