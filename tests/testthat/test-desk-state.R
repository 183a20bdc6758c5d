# What a choice on the desk does to the plan, without a browser.

desk_plan_of_demo <- function() carefultwin:::demo_on_desk()$plan

read_back <- function(plan, folder = tempdir()) {
  read <- carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), file.path(folder, "plan.yml"))
  read[setdiff(names(read), c("path", "lines"))]
}

test_that("a plan that is written is read back as it was", {
  plan <- list(study = list(data = "yes: no.csv", treatment = "x y", treated = "1", outcome = list("a", "b"),
                            covariates = "~ log(size) + gear", missing = "flag", subset = "a > 1 & b == \"n\""),
               designs = list("odd name: {1}" = list("score", list(pair = list(caliper = 0.123456789012, ratio = 3, replacement = TRUE))),
                              true = list(list(weigh = list(method = "inverse", truncate = list(bound = 20))))),
               effects = list(raw = list(), second = list(design = "true", estimator = "augmented")))
  again <- read_back(plan)
  plan$study$outcome <- unlist(plan$study$outcome)  # texts in a row come back as one vector
  plan$designs <- lapply(plan$designs, as.list)
  expect_equal(lapply(again, rapply, f = identity, how = "list"), lapply(plan, rapply, f = identity, how = "list"))
  expect_equal(read_back(again), again)
})

test_that("every kind of design that the page adds makes a design, with the settings chosen", {
  skip_if_not_installed("callr")
  opened <- carefultwin:::demo_on_desk()
  plan <- opened$plan
  plan$designs <- NULL
  for (kind in names(carefultwin:::desk_designs)) plan <- carefultwin:::add_design(plan, kind)
  plan <- carefultwin:::add_design(plan, "pairs", list(link = "probit", trim = "range", caliper = "0.05", ratio = 2, terms = "no such"))
  plan <- carefultwin:::add_design(plan, "weights", list(bound = "-3"))
  expect_identical(names(plan$designs), c("pairs", "full", "cells", "strata", "weights", "entropy", "pairs 1", "weights 1"))
  expect_identical(plan$designs[["pairs 1"]], list(list(score = list(link = "probit")), list(trim = list(rule = "range", bounds = list(0.1, 0.9))),
                                                   list(pair = list(caliper = 0.05, ratio = 2))))
  expect_identical(plan$designs[["weights 1"]], plan$designs$weights)
  read <- carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), opened$path)
  kept <- new.env()
  answer <- suppressMessages(carefultwin:::answer_step(read, "designs", kept))
  expect_identical(answer$failed, character())
  expect_match(answer$verdict, "of 8 designs balanced")
  expect_named(answer$choices, names(plan$designs))
  expect_match(answer$seal, "still sealed; 7 designs tried")
})

test_that("what rests on a design goes with it; effects with settings of their own stay", {
  plan <- carefultwin:::unseal_plan(desk_plan_of_demo())
  expect_identical(names(plan$effects), c("raw", "pairs", "weights"))
  expect_identical(carefultwin:::unseal_plan(plan), plan)
  plan$effects$own <- list(design = "weights", estimator = "augmented", family = "gaussian")
  more <- carefultwin:::set_effects(plan, "weights", c("difference", "targeted"))
  expect_identical(setdiff(names(more$effects), names(plan$effects)), "weights targeted")
  fewer <- carefultwin:::set_effects(carefultwin:::set_probed(more, c("weights", "pairs")), "weights", "targeted")
  expect_identical(names(fewer$effects), c("raw", "pairs", "own", "weights targeted"))
  expect_identical(names(fewer$probes), "hidden bias in pairs")
  expect_identical(carefultwin:::chosen_estimators(fewer, "weights"), c("augmented", "targeted"))
  gone <- carefultwin:::drop_design(fewer, "weights")
  expect_identical(names(gone$effects), c("raw", "pairs"))
  expect_identical(names(gone$designs), "pairs")
  none <- carefultwin:::drop_design(carefultwin:::drop_design(desk_plan_of_demo(), "pairs"), "weights")
  expect_identical(names(read_back(none)), "study")
})

test_that("undo and redo walk through the plans; a choice that changes nothing is none", {
  first <- desk_plan_of_demo()
  history <- carefultwin:::new_history(first)
  expect_identical(carefultwin:::move_on(history, first), history)
  second <- carefultwin:::add_design(first, "entropy")
  history <- carefultwin:::move_on(history, second)
  back <- carefultwin:::undo(history)
  expect_identical(back$plan, first)
  expect_identical(carefultwin:::redo(back)$plan, second)
  expect_identical(carefultwin:::undo(carefultwin:::undo(back)), back)
  aside <- carefultwin:::move_on(back, carefultwin:::add_design(first, "cells"))
  expect_identical(carefultwin:::redo(aside), aside)
})

test_that("a step is asked anew when what it hangs on changes, and no other", {
  plan <- carefultwin:::unseal_plan(desk_plan_of_demo())
  columns <- list(name = "x")
  answers <- list()
  asked <- character()
  repeat {
    step <- carefultwin:::next_step(plan, answers, columns)
    if (is.null(step)) break
    asked <- c(asked, step)
    answers[[step]] <- list(key = carefultwin:::step_key(plan, step), value = list(failed = character()))
  }
  expect_identical(asked, c("question", "score", "designs", "power", "effects"))
  expect_identical(carefultwin:::next_step(carefultwin:::set_effects(plan, "weights", "augmented"), answers, columns), "effects")
  expect_identical(carefultwin:::next_step(carefultwin:::set_probed(plan, "weights"), answers, columns), "bias")
  expect_identical(carefultwin:::next_step(carefultwin:::set_question(plan, list(estimand = "ATE")), answers, columns), "question")
  expect_identical(carefultwin:::next_step(plan, list(), NULL), "columns")
  expect_null(carefultwin:::next_step(carefultwin:::set_question(plan, list(outcome = "")), answers, columns))
  answers$question$value$failed <- c(study = "no")
  expect_null(carefultwin:::next_step(carefultwin:::set_probed(plan, "weights"), answers, columns))
})

test_that("steps say what failed and go on with the rest; what stands is not made again", {
  opened <- carefultwin:::demo_on_desk()
  plan <- carefultwin:::set_effects(carefultwin:::unseal_plan(opened$plan), "weights", c("difference", "augmented"))
  plan$designs$bad <- list("score", list(pair = list(caliper = 1e-12)))
  plan$effects$bad <- list(design = "bad")
  as_read <- function(plan) carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), opened$path)
  kept <- new.env()
  answers <- lapply(c(question = "question", designs = "designs", effects = "effects"),
                    function(step) carefultwin:::answer_step(as_read(plan), step, kept))
  expect_identical(names(answers$designs$failed), "bad")
  expect_identical(names(answers$effects$failed), "bad")
  expect_match(answers$effects$failed, "design \"bad\" could not be made")
  expect_identical(answers$effects$verdict, "4 estimates")
  expect_match(answers$effects$seal, "first opened on .*: 2 designs before, 0 after")
  expect_match(answers$question$html, "612 units", fixed = TRUE)
  made <- length(kept$made)
  carefultwin:::answer_step(as_read(plan), "effects", kept)
  expect_length(kept$made, made)
  # a design after the seal is counted, in a worker that knows only the logbook too
  plan <- carefultwin:::add_design(plan, "entropy")
  fresh <- new.env()
  fresh$log <- answers$effects$log
  expect_match(carefultwin:::answer_step(as_read(plan), "designs", fresh)$seal, "2 designs before, 1 after")
})

test_that("the script that stands beside a plan gives the numbers of the plan", {
  opened <- carefultwin:::demo_on_desk()
  plan <- carefultwin:::set_effects(carefultwin:::unseal_plan(opened$plan), "weights", c("difference", "augmented"))
  plan$study$subset <- "crew_size > 1"
  plan$designs$weights <- list(list(score = list(model = "~ boat_length + past_income + I(past_income^2)")), list(weigh = list(method = "inverse")))
  plan$effects$augmented <- list(design = "weights", estimator = "augmented", family = list(income = "gaussian"))
  read <- carefultwin:::plan_from_lines(carefultwin:::plan_text(plan), opened$path)
  script <- carefultwin:::plan_script(read)
  expect_false(any(nchar(unlist(strsplit(script, "\n"))) > 140))
  own <- new.env()
  withr::with_dir(dirname(opened$path), utils::capture.output(suppressWarnings(eval(parse(text = script), own))))
  kept <- new.env()
  for (step in c("designs", "effects")) carefultwin:::answer_step(read, step, kept)
  found <- carefultwin:::step_parts(read, "effects", carefultwin:::made_study(read, kept), kept)$parts$effects
  expect_setequal(names(found), names(own$effects))
  for (name in names(found)) expect_equal(tidy(found[[name]]), tidy(own$effects[[name]]), tolerance = 1e-12)
})

test_that("files that can't be opened are told of", {
  skip_if_not_installed("shiny")
  expect_error(open_desk("none.csv"), "no such file", class = "twin_error_file")
  expect_error(open_desk("none.csv", demo = TRUE), "not both", class = "twin_error_input")
  expect_error(open_desk(demo = NA), "TRUE or FALSE", class = "twin_error_input")
  expect_error(open_desk(demo = TRUE, port = 80), "from 1024", class = "twin_error_input")
  folder <- withr::local_tempdir()
  plan <- file.path(folder, "plan.yml")
  writeLines("study: {data: b.csv, treatment: d, reference: none, outcome: y, covariates: x}", plan)
  expect_error(open_desk(plan), "one treatment with two values", class = "twin_error_unsupported")
  writeLines(c("# mine", "study: {data: b.csv, treatment: d, outcome: y, covariates: x}"), plan)
  writeLines("x", file.path(folder, "a.csv"))
  expect_error(open_desk(file.path(folder, "a.csv")), "is there already, about", class = "twin_error_input")
  opened <- carefultwin:::plan_on_desk(plan, NULL)
  expect_identical(readLines(paste0(plan, ".before"))[1], "# mine")
  expect_identical(opened$plan$study$treatment, "d")
  lone <- file.path(withr::local_tempdir(), "lone.csv")
  writeLines("x", lone)
  expect_true(carefultwin:::plan_on_desk(lone, NULL)$saved)
  expect_false(carefultwin:::plan_on_desk(NULL, NULL)$saved)
})

test_that("the page escapes what users wrote", {
  odd <- "<script>alert(1)</script>\"'"
  plan <- list(study = list(data = "a.csv", treatment = odd, outcome = "y", covariates = list("x")), designs = stats::setNames(list(list("score")), odd),
               effects = stats::setNames(list(list(design = odd)), odd))
  columns <- list(name = c(odd, "x", "y"), kind = c("two values", "number", "number"), missing = c(0L, 3L, 0L),
                  levels = list(c("a", odd), NULL, NULL) |> stats::setNames(c(odd, "x", "y")), counts = list(1:2, 1:10, 1:10), roles = NULL)
  choices <- stats::setNames(list(data.frame(estimator = "difference", words = odd, reason = odd)), odd)
  html <- c(as.character(carefultwin:::sentence_with_gaps(plan, columns)), as.character(carefultwin:::plan_cards(plan$designs, "drop")),
            as.character(htmltools::tagList(carefultwin:::estimator_choice(plan, choices))), as.character(carefultwin:::probe_choice(plan)),
            as.character(carefultwin:::answer_view(list(failed = stats::setNames(odd, odd), notes = odd, html = ""), FALSE)))
  expect_false(any(grepl("<script>", html, fixed = TRUE)))
  expect_match(html[1], "3 missing", fixed = TRUE)
})
