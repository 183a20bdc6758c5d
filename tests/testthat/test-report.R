full_report <- function(data = many_crews(), covariates = c("boat", "past", "port"), ...) {
  file <- withr::local_tempfile(fileext = ".html", .local_envir = parent.frame())
  study <- study_of_many(data, covariates = covariates)
  scored <- score_units(study)
  designs <- list(pairs = pair_units(scored), weights = weigh_units(scored))
  effects <- list(raw = measure_effect(study), pairs = measure_effect(designs$pairs),
                  weights = measure_effect(designs$weights))
  probes <- list(hidden = probe_pairs(effects$pairs), strength = probe_ratio(effects$weights))
  write_report(file, study, designs, effects, probes, ...)
  paste(readLines(file, encoding = "UTF-8"), collapse = "\n")
}

test_that("the report has every section and stands alone", {
  html <- full_report(truth = c(income = 2))
  ids <- c("question", "score", "balance", "effects", "bias", "methods", "checklist", "logbook")
  found <- vapply(ids, function(id) grepl(sprintf("<section id=\"%s\"", id), html, fixed = TRUE), NA)
  expect_identical(ids[!found], character())
  expect_match(html, "The truth is 2.00", fixed = TRUE)
  addresses <- regmatches(html, gregexpr("(src|href)=\"[^\"]*\"", html))[[1]]
  expect_gt(length(addresses), 5)
  expect_match(addresses, "^(href=\"#|src=\"data:image/png;base64,)")
  expect_false(grepl("@import|url\\((?!#)|<script|https?://", html, perl = TRUE))
})

test_that("figures have spoken names, tables have headed columns, and the page suits a phone", {
  html <- full_report()
  figures <- lengths(regmatches(html, gregexpr("<img", html, fixed = TRUE)))
  expect_gt(figures, 4)
  expect_identical(lengths(regmatches(html, gregexpr("<img src=\"[^\"]*\" alt=\"[^\"]{10,}\"", html))), figures)
  expect_match(html, "<th scope=\"col\">", fixed = TRUE)
  expect_match(html, "width=device-width", fixed = TRUE)
  expect_match(html, "<html lang=\"en\">", fixed = TRUE)
})

test_that("names and levels from the data survive as text", {
  data <- many_crews()
  data[["<script>alert(1)</script>"]] <- data$boat
  data[["a b"]] <- ifelse(data$port == "small", "x & \"y\" <b>", data$port)
  html <- full_report(data, c("<script>alert(1)</script>", "a b", "past"))
  expect_false(grepl("<script>", html, fixed = TRUE))
  expect_false(grepl("<b>", html, fixed = TRUE))
  expect_match(html, "<td>&lt;script&gt;alert(1)&lt;/script&gt;</td>", fixed = TRUE)
  expect_match(html, "a b: x &amp; ", fixed = TRUE)
})

test_that("bad parts are refused", {
  study <- study_of_many()
  file <- withr::local_tempfile(fileext = ".html")
  expect_error(write_report(file, study, list(weigh_units(score_units(study)))), "list with names",
               class = "twin_error_input")
  expect_error(write_report(file, study, effects = list(a = 1)), class = "twin_error_input")
  expect_error(write_report(file, study, truth = c(income = 1)), "named by outcome", class = "twin_error_input")
  expect_error(write_report("a.pdf", study), "end in .html or .docx", class = "twin_error_file")
  expect_false(file.exists(file))
})

test_that("a study without designs still gives a report", {
  study <- study_of_many()
  file <- withr::local_tempfile(fileext = ".html")
  write_report(file, study, title = "Only <looking>")
  html <- paste(readLines(file), collapse = "\n")
  expect_match(html, "<h1>Only &lt;looking&gt;</h1>", fixed = TRUE)
  expect_match(html, "still sealed", fixed = TRUE)
})

test_that("balances that exist are taken as they are, the others made; they belong to designs", {
  study <- study_of_many()
  designs <- list(weights = weigh_units(score_units(study)), pairs = pair_units(score_units(study)))
  file <- withr::local_tempfile(fileext = ".html")
  strict <- assess_balance(designs$weights, limit = "strict")
  write_report(file, study, designs, balances = list(weights = strict))
  page <- paste(readLines(file), collapse = " ")
  expect_match(page, "0.05", fixed = TRUE)
  expect_match(page, "<td>pairs</td>", fixed = TRUE)
  expect_error(write_report(file, study, designs, balances = list(wieghts = strict)), "no design",
               class = "twin_error_input")
  expect_error(write_report(file, study, designs, balances = list(weights = strict), limit = "lenient"), "no use",
               class = "twin_error_input")
})

test_that("a study that was framed by a graph shows its assumptions, claims about the outcome when that is open", {
  data <- many_crews()
  graph <- assume_graph("digraph { boat -> {joined income}; past -> {joined income}; joined -> income; mood -> boat;
                        mood [unobserved]; port -> joined }")
  framed <- function(...) frame_study(data, treatment = "joined", outcome = "income", graph = graph, ...)
  html_of <- function(study, effects = list()) {
    file <- withr::local_tempfile(fileext = ".html")
    write_report(file, study, effects = effects)
    paste(readLines(file, encoding = "UTF-8"), collapse = "\n")
  }
  study <- framed()
  closed <- html_of(study)
  expect_match(closed, "Adjusting for boat and past suffices by this graph", fixed = TRUE)
  expect_match(closed, "<td[^>]*>boat, past</td>")
  expect_match(closed, "1 more claim about the outcome: tested when it is open", fixed = TRUE)
  expect_no_match(closed, "port and income are independent")
  open <- html_of(study, list(raw = measure_effect(study)))
  expect_match(open, "(income and port|port and income) are independent given")
  claims <- test_claims(graph, data)
  against <- sum(claims$verdict == "contradicted")
  expect_match(open, sprintf("The data contradict %s of the graph's %d claims", if (against == 0) "none" else against, nrow(claims)))
  bad <- suppressWarnings(html_of(framed(covariates = "port")))
  expect_match(bad, "Adjusting for port does not suffice by this graph", fixed = TRUE)
  expect_match(bad, "joined &lt;- boat -&gt; income", fixed = TRUE)
  expect_no_match(html_of(study_of_many(data, covariates = "boat")), "id=\"assumptions\"")
  lacking <- assume_graph("digraph { boat -> {joined income}; joined -> income; tide -> past }")
  expect_match(html_of(frame_study(data, treatment = "joined", outcome = "income", graph = lacking)),
               "Claims were not tested: no column is named tide", fixed = TRUE)
  data$day <- I(as.list(seq_len(nrow(data))))
  odd <- assume_graph("digraph { boat -> {joined income}; joined -> income; day -> past }")
  expect_match(html_of(frame_study(data, treatment = "joined", outcome = "income", graph = odd)),
               "Claims were not tested: .*day")
  few <- carefultwin:::claims_blocks(graph, study, FALSE, most = 100)
  expect_identical(few[[1L]]$text, "4 claims on 300 rows would take long: test_claims() tests them.")
})
