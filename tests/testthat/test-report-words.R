worked <- function() {
  study <- study_of_many(cluster = "harbour")
  scored <- score_units(study)
  pairs <- pair_units(scored, caliper = 0.2)
  weights <- weigh_units(scored)
  list(study = study, pairs = pairs, weights = weights, raw = measure_effect(study),
       matched = measure_effect(pairs), augmented = measure_effect(weights, estimator = "augmented"))
}

test_that("the methods paragraph says what was done, with its numbers, and nothing that was not", {
  w <- worked()
  text <- methods_text(list(w$augmented, w$matched, probe_ratio(w$augmented)))
  whole <- paste(as.character(text), collapse = " ")
  row <- tidy(w$augmented)[3, ]
  expect_match(whole, sprintf("It was %s (95%% interval %s)", number_text(row$estimate),
                              interval_text(row$conf.low, row$conf.high)), fixed = TRUE)
  expect_match(whole, sprintf("%d treated and %d control", sum(w$study$z), sum(1 - w$study$z)))
  s <- summary(assess_balance(w$weights))
  expect_match(whole, sprintf("%d of %d rows of the balance table", s$passing, s$rows))
  expect_match(whole, "One other estimate of it was made")
  expect_match(whole, "Rosenbaum and Rubin, 1983", fixed = TRUE)
  expect_match(whole, "VanderWeele and Ding, 2017", fixed = TRUE)
  expect_match(whole, "2 designs tried before and 0 after")
  expect_false(grepl("\001|\002|  ", whole))
  with_raw <- paste(as.character(methods_text(list(w$augmented, w$matched, w$raw))), collapse = " ")
  expect_match(with_raw, sprintf("One other estimate of it was made: %s.", number_text(tidy(w$matched)$estimate[3])), fixed = TRUE)
  expect_match(with_raw, sprintf("Without any adjustment it was %s.", number_text(tidy(w$raw)$estimate[3])), fixed = TRUE)
  expect_match(whole, "On income: a hidden confounder", fixed = TRUE)
  none <- paste(as.character(methods_text(w$raw)), collapse = " ")
  expect_match(none, "without a design")
  expect_match(none, "was not probed")
  expect_false(grepl("propensity|balance", none))
  expect_match(paste(as.character(methods_text(w$study)), collapse = " "), "No effect was measured")
})

test_that("papers are cited in words, for pandoc or for LaTeX, and every key stands in the bib file", {
  w <- worked()
  expect_match(paste(as.character(methods_text(w$matched, "pandoc")), collapse = " "), "\\[@austin2011\\]")
  expect_match(paste(as.character(methods_text(w$matched, "latex")), collapse = " "), "\\\\citep\\{abadie2022\\}")
  found <- references(list(w$matched, w$augmented))
  table <- as.data.frame(found)
  expect_setequal(table$key, c("rosenbaum1983", "austin2011", "abadie2022", "hirano2003", "robins1994"))
  bib <- format(found, "bibtex")
  for (key in table$key) expect_match(bib, sprintf("^@article\\{%s,$", key), all = FALSE)
  expect_identical(sum(bib == "}"), nrow(table))
  expect_match(format(references(w$raw)), "No paper stands behind this")
  expect_identical(format(references(w$raw), "bibtex"), "% no papers are cited")
  expect_error(references(1), class = "twin_error_input")
})

test_that("every entry of the registers says which papers stand behind it, and every paper is whole", {
  expect_setequal(names(paper_keys$estimators), names(estimators))
  expect_setequal(names(paper_keys$weighings), names(weighings))
  expect_setequal(names(paper_keys$did), names(did_estimators))
  expect_setequal(names(paper_keys$probes), names(probes))
  expect_setequal(names(paper_keys$groups), names(group_options))
  expect_identical(setdiff(unlist(paper_keys), names(papers)), character())
  for (key in names(papers)) {
    expect_true(is.numeric(papers[[key]]$year) && nzchar(papers[[key]]$title), label = key)
    # keys are the first author's name and the year
    plain <- tolower(gsub("[^A-Za-z]", "", iconv(family_names(key)[1], "UTF-8", "ASCII//TRANSLIT")))
    expect_identical(sub("[0-9]+$", "", key), plain)
    expect_identical(as.numeric(sub("^[a-z]+", "", key)), papers[[key]]$year)
  }
  expect_identical(short_reference("zhao2019"), "Zhao, Small and Bhattacharya, 2019")
  expect_match(short_reference("chernozhukov2018"), "Chernozhukov and others")
})

test_that("the checklist answers from the logbook, and says what was not done", {
  w <- worked()
  rows <- as.data.frame(checklist(list(w$augmented, w$matched, w$raw)))
  expect_gte(nrow(rows), 20)
  answer <- function(pattern) rows[grep(pattern, rows$question), ]
  expect_identical(answer("hidden bias")$answer, "Not done.")
  expect_false(answer("hidden bias")$done)
  expect_identical(answer("hidden bias")$where, "-")
  expect_match(answer("Do other estimators")$answer, "2 adjusted estimates")
  expect_match(answer("enough clusters")$answer, sprintf("^%d clusters", length(unique(many_crews()$harbour))))
  expect_match(answer("deviations")$answer, "^None")
  book <- as.data.frame(logbook(w$study))
  expect_identical(answer("Whom does")$where, "logbook, step 1")
  expect_identical(answer("propensity score made")$where, sprintf("logbook, step %d", book$step[book$verb == "score"]))
  late <- measure_effect(weigh_units(w$study, "entropy"))
  after <- as.data.frame(checklist(late))
  expect_match(after$answer[grep("deviations", after$question)], "1 design tried after it")
  probed <- as.data.frame(checklist(list(w$augmented, probe_effect(w$augmented, draws = 0))))
  expect_true(probed$done[grep("hidden bias", probed$question)])
  file <- withr::local_tempfile(fileext = ".md")
  export_table(checklist(w$augmented), file)
  expect_match(readLines(file), "Whom does the estimate speak of", all = FALSE)
})

test_that("a graph answers for its covariates; several outcomes ask for adjusted p-values", {
  data <- many_crews()
  graph <- assume_graph("digraph { past -> {joined income}; boat -> {joined income}; joined -> income }")
  study <- frame_study(data, "joined", c("income", "direct"), graph = graph)
  effects <- measure_effect(weigh_units(score_units(study)), c("income", "direct"), adjust = "holm")
  rows <- as.data.frame(checklist(effects))
  expect_match(rows$answer[grep("Do the covariates suffice", rows$question)], "smallest set that suffices")
  expect_match(rows$answer[grep("several outcomes", rows$question)], "2 effects adjusted \\(holm\\)")
})

test_that("words of a panel speak of cohorts, trends and ways to estimate", {
  panel <- harbour_panel()
  cells <- measure_did(panel)
  told <- list(summarise_did(cells), assess_trends(panel), decompose_did(panel), probe_trends(cells, at = 0:1))
  text <- paste(as.character(methods_text(told)), collapse = " ")
  expect_match(text, "Callaway and Sant'Anna, 2021", fixed = TRUE)
  expect_match(text, "Goodman-Bacon, 2021")
  expect_false(grepl("don't trust|may be trusted", text))
  rows <- as.data.frame(checklist(told))
  expect_true(rows$done[grep("trends differ", rows$question)])
  expect_false(rows$done[grep("shown over time", rows$question)])
})

test_that("missing outcomes are told in the paragraph, without advice, and a run without papers leaves its files", {
  data <- many_crews()
  data$income[1:7] <- NA
  text <- paste(as.character(methods_text(measure_effect(study_of_many(data)))), collapse = " ")
  expect_match(text, "7 values of the outcome are missing and left out: this is about complete cases. It was", fixed = TRUE)
  folder <- plan_folder(function(plan) c(plan[seq_len(which(plan == "designs:") - 1L)], "effects:", "  raw: {}"))
  result <- twin("run", file.path(folder, "plan.yml"))
  expect_identical(result$status, 0L)
  expect_identical(readLines(file.path(folder, "results", "references.bib")), "% no papers are cited")
})

test_that("every paper has its line in the references", {
  lines <- reference_lines(names(papers))
  expect_length(lines, length(papers))
  expect_match(lines, "^[^(]+ \\([12][0-9]{3}\\)[.] .+[.] .+")
  expect_no_match(lines, "NA|, ,|, $|NULL")
})

test_that("words need one study", {
  expect_error(methods_text(list(study_of_many(), study_of_many(many_crews(50)))), "one study",
               class = "twin_error_input")
  expect_error(methods_text(list(probe_pairs(c(1, 2, 3)))), "tells of a study", class = "twin_error_input")
  expect_error(checklist(4), class = "twin_error_input")
})

test_that("the package says how it is cited", {
  entry <- utils::citation("carefultwin")
  expect_match(format(entry, "text"), "carefultwin", all = FALSE)
  expect_match(paste(utils::toBibtex(entry), collapse = " "), as.character(utils::packageVersion("carefultwin")), fixed = TRUE)
})
