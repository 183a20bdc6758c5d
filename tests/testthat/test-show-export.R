measured <- function(...) measure_effect(weigh_units(score_units(study_of_many(...))))

test_that("a csv holds the numbers of tidy at full precision", {
  file <- withr::local_tempfile(fileext = ".csv")
  balance <- assess_balance(weigh_units(score_units(study_of_many())))
  expect_identical(export_table(balance, file), file)
  back <- data.table::fread(file, data.table = FALSE, na.strings = "")
  expect_equal(back$smd, tidy(balance)$smd, tolerance = 1e-12)
  expect_identical(back$covariate, tidy(balance)$covariate)
})

test_that("cells that a spreadsheet would run become text", {
  data <- many_crews()
  data$port[data$port == "small"] <- "=cmd|' /C calc'!A0"
  names(data)[1] <- "+boat"
  file <- withr::local_tempfile(fileext = ".csv")
  export_table(describe_groups(study_of_many(data, covariates = c("+boat", "port"))), file)
  back <- data.table::fread(file, data.table = FALSE, na.strings = "")
  expect_identical(back$covariate[1], "'+boat")
  expect_true("'=cmd|' /C calc'!A0" %in% back$level)
  expect_type(back$difference, "double")
})

test_that("a tex table is booktabs, escapes what LaTeX reads, and says which way differences go", {
  data <- many_crews()
  data$port[data$port == "small"] <- "50% & more_{~^\\}"
  file <- withr::local_tempfile(fileext = ".tex")
  export_table(describe_groups(study_of_many(data)), file)
  lines <- readLines(file)
  expect_identical(sum(lines %in% c("\\toprule", "\\midrule", "\\bottomrule")), 3L)
  expect_match(lines, "port: 50\\% \\& more\\_\\{\\textasciitilde{}\\textasciicircum{}\\textbackslash{}\\}",
               fixed = TRUE, all = FALSE)
  expect_match(lines, "Difference is treated minus control", fixed = TRUE, all = FALSE)
  body <- lines[seq(which(lines == "\\midrule") + 1, which(lines == "\\bottomrule") - 1)]
  # as many cells in every row as columns are declared
  expect_identical(unique(lengths(strsplit(gsub("\\&", "", body, fixed = TRUE), "&", fixed = TRUE))), 9L)
  expect_match(lines, "{lrrrrrrrr}", fixed = TRUE, all = FALSE)
})

# A study with that many numeric covariates.
wide_study <- function(columns, n = 200) {
  withr::with_seed(4, {
    data <- as.data.frame(matrix(stats::rnorm(n * columns), n))
    names(data) <- sprintf("covariate_%d", seq_len(columns))
    data$joined <- rep(c(TRUE, FALSE), n / 2)
    data$income <- stats::rnorm(n)
  })
  frame_study(data, "joined", "income", sprintf("covariate_%d", seq_len(columns)))
}

# Compiles files of tables and gives pdflatex's log.
compiled_log <- function(files) {
  needed <- unique(unlist(lapply(files, function(file) {
    regmatches(readLines(file, n = 1L), gregexpr("\\\\usepackage\\{[a-z]+\\}", readLines(file, n = 1L)))
  })))
  folder <- dirname(files[1L])
  writeLines(c("\\documentclass{article}", needed, "\\begin{document}", sprintf("\\input{%s}", basename(files)),
               "See \\ref{tab:t1}.", "\\end{document}"), file.path(folder, "a.tex"))
  run <- function() withr::with_dir(folder, system2("pdflatex", c("-interaction=nonstopmode", "a.tex"), stdout = FALSE))
  run()
  expect_identical(run(), 0L)
  paste(readLines(file.path(folder, "a.log"), warn = FALSE), collapse = "\n")
}

test_that("exported tex fits the page at 5, 12 and 80 rows and with ten columns, where LaTeX is installed", {
  folder <- withr::local_tempdir()
  files <- file.path(folder, sprintf("t%d.tex", 1:5))
  export_table(assess_balance(wide_study(5)), files[1])
  export_table(describe_groups(wide_study(12)), files[2], placement = "t")
  export_table(assess_balance(wide_study(80)), files[3], orientation = "landscape")
  export_table(describe_groups(wide_study(80), overall = TRUE), files[4])
  export_table(compare_effects(raw = measured(), weights = measure_effect(weigh_units(score_units(study_of_many())))),
               files[5], layout = "columns", stars = 0.05, label = "tab:own")
  lines <- lapply(files, readLines)
  expect_match(lines[[1]], "\\\\label\\{tab:t1\\}", all = FALSE)
  expect_match(lines[[2]], "\\\\begin\\{table\\}\\[t\\]", all = FALSE)
  expect_match(lines[[3]], "\\\\begin\\{longtable\\}", all = FALSE)
  expect_match(lines[[3]], "\\\\begin\\{landscape\\}", all = FALSE)
  expect_match(lines[[5]], "\\\\label\\{tab:own\\}", all = FALSE)
  skip_if(!nzchar(Sys.which("pdflatex")), "pdflatex is not here")
  log <- compiled_log(files)
  expect_no_match(log, "too large|undefined|Undefined")
  wide <- as.numeric(unlist(regmatches(log, gregexpr("(?<=Overfull \\\\hbox \\()[0-9.]+", log, perl = TRUE))))
  expect_lt(max(wide, 0), 2)  # points
})

test_that("every kind of table can be exported, an effect with its sentence", {
  effect <- measured()
  folder <- withr::local_tempdir()
  things <- list(effect, compare_effects(a = effect), probe_ratio(effect), probe_pairs(c(1, 2, 3.5)))
  for (k in seq_along(things)) export_table(things[[k]], file.path(folder, paste0(k, ".tex")))
  notes <- vapply(file.path(folder, paste0(seq_along(things), ".tex")), function(file) {
    grep("minipage", readLines(file), value = TRUE)
  }, "")
  expect_match(notes[1], "income changes by", fixed = TRUE)
  expect_match(notes[3], "hidden confounder", fixed = TRUE)
})

test_that("files that can't be written are refused and nothing is left behind", {
  folder <- withr::local_tempdir()
  expect_error(export_table(measured(), file.path(folder, "none", "a.csv")), "no folder", class = "twin_error_file")
  expect_error(export_table(measured(), file.path(folder, "a.doc")), "must end in \".tex\"", class = "twin_error_file")
  expect_error(export_table(1, "a.csv"), class = "twin_error_input")
  dir.create(file.path(folder, "taken.csv", "inside"), recursive = TRUE)
  expect_error(export_table(measured(), file.path(folder, "taken.csv")), "Can't write", class = "twin_error_file")
  expect_identical(list.files(folder, all.files = TRUE, no.. = TRUE), "taken.csv")
})

test_that("numbers read the same everywhere", {
  expect_identical(number_text(c(0.1234, 1.234, 123.44, 12345.6, NA, 0, -0.0001, 2e-7)),
                   c("0.123", "1.23", "123.4", "12,346", "-", "0.000", "-1.0e-04", "2.0e-07"))
  expect_identical(interval_text(0.5, 14.2), "0.50 to 14.20")
  expect_identical(p_text(c(0.0001, 0.04, NA)), c("<0.001", "0.040", "-"))
})

test_that("plots of probes draw their tables", {
  probe <- probe_pairs(withr::with_seed(1, rnorm(40, 1)), gamma = c(1, 2, 3))
  ribbon <- ggplot2::layer_data(plot(probe), 1)
  expect_equal(ribbon$ymin, tidy(probe)$conf_low)
  ratio <- probe_ratio(2, low = 1.5)
  curve <- ggplot2::layer_data(plot(ratio), 1)
  bound <- curve$x * curve$y / (curve$x + curve$y - 1)
  expect_equal(range(bound), c(1.5, 2))
})

exported <- function(x, kind, ...) {
  file <- withr::local_tempfile(fileext = paste0(".", kind))
  export_table(x, file, ...)
  readLines(file, encoding = "UTF-8")
}

test_that("columns, headings, labels and digits are of one's choice", {
  lines <- exported(describe_groups(study_of_many()), "md", columns = c("Covariate", Gap = "Difference"), digits = 1,
                    labels = c(port = "Size of port"))
  expect_identical(lines[3], "| Covariate | Gap |")
  expect_identical(lines[5], sprintf("| boat | %.1f |", diff(tapply(many_crews()$boat, many_crews()$joined, mean))))
  expect_match(lines[7], "^\\| Size of port: large \\|")
  groups <- describe_groups(study_of_many())
  expect_error(exported(groups, "md", columns = "Diff"), "no column \"Diff\"", class = "twin_error_input")
  expect_error(exported(groups, "md", labels = c(prt = "x")), "Did you mean \"port\"", class = "twin_error_input")
})

test_that("stars follow their cut-offs and the note says them", {
  comparison <- compare_effects(a = measured(), b = measure_effect(study_of_many(), level = 0.9))
  p <- tidy(comparison)$p.value
  lines <- exported(comparison, "md", stars = c(0.5, p[1] * 1.01))
  expect_identical(lengths(regmatches(lines[5], gregexpr("*", lines[5], fixed = TRUE))), 2L)
  expect_match(lines[length(lines)], "p \\<= 0.5", fixed = TRUE)
  expect_error(exported(comparison, "md", stars = c(0.01, 0.1)), "falling cut-offs", class = "twin_error_input")
  expect_error(exported(assess_balance(study_of_many()), "md", stars = 0.1), "belong to", class = "twin_error_input")
})

test_that("standard errors go under their numbers in parentheses", {
  effect <- measured()
  lines <- exported(effect, "tex", se = "under")
  row <- grep("^difference", lines)
  se <- number_text(tidy(effect)$std.error[3])
  expect_true(startsWith(lines[row + 1], sprintf(" & (%s) &", se)))
  expect_false(any(grepl("& SE", lines)))
})

test_that("html and markdown escape what they would read as markup", {
  data <- many_crews()
  data$port[data$port == "small"] <- "<b>|*x*"
  groups <- describe_groups(study_of_many(data))
  html <- paste(exported(groups, "html"), collapse = "\n")
  expect_match(html, "port: &lt;b&gt;|*x*", fixed = TRUE)
  expect_match(html, "<caption>", fixed = TRUE)
  md <- exported(groups, "md")
  expect_match(md, "port: \\<b\\>\\|\\*x\\*", fixed = TRUE, all = FALSE)
})

test_that("an Excel file holds the numbers, and a second sheet says what they are", {
  skip_if_not_installed("openxlsx")
  file <- withr::local_tempfile(fileext = ".xlsx")
  effect <- measured()
  export_table(effect, file)
  expect_equal(openxlsx::read.xlsx(file, "numbers")$estimate, tidy(effect)$estimate)
  expect_match(openxlsx::read.xlsx(file, "about")$note[2], "income changes by")
  # with choices of one's own: the table as it is printed, its numbers as numbers
  export_table(effect, file, digits = 2, labels = c(difference = "What it changed"), columns = c("Quantity", "Estimate"))
  sheet <- openxlsx::read.xlsx(file, "numbers")
  expect_identical(names(sheet), c("Quantity", "Estimate"))
  expect_identical(sheet$Quantity[3], "What it changed")
  expect_equal(sheet$Estimate, round(tidy(effect)$estimate, 2)[seq_len(nrow(sheet))])
})

test_that("stars of a level are those of its own difference; the joint test stands with the factor", {
  data <- many_crews()
  study <- study_of_many(data)
  groups <- describe_groups(study, tests = TRUE)
  rows <- tidy(groups)
  lines <- exported(groups, "md", stars = c(0.1, 0.05, 0.01))
  for (k in which(rows$kind == "level")) {
    own <- 2 * pnorm(-abs(rows$difference[k] / rows$std.error[k]))
    line <- grep(sprintf("\\| port: %s ", rows$level[k]), lines, value = TRUE)
    expect_identical(lengths(regmatches(line, gregexpr("\\*", line, fixed = TRUE))), sum(own <= c(0.1, 0.05, 0.01)))
    expect_match(line, "\\|  \\|$")  # no p of its own
  }
  heading <- grep("^\\| port \\|", lines, value = TRUE)
  joint <- rows$p.value[rows$covariate == "port"][1]
  expect_match(heading, if (joint < 0.001) "0.001 \\|$" else paste0(formatC(joint, digits = 3, format = "f"), " \\|$"))
  expect_match(lines[length(lines)], "of a factor's name, all of its levels together. Stars: the row's own two-sided test")
  printed <- format(groups)
  expect_length(grep("^ *port  ", printed), 1)
  expect_true(all(nchar(printed) <= 80))
})

test_that("medians that were asked for are exported, and notes say what stands in parentheses and what is missing", {
  data <- many_crews()
  data$income[1:7] <- NA
  study <- study_of_many(data, cluster = "harbour")
  groups <- describe_groups(study, summary = "median")
  lines <- exported(groups, "md", se = "under")
  q <- quantile(data$boat[data$joined == 1], c(0.25, 0.5, 0.75), names = FALSE, type = 7)
  row <- strsplit(grep("boat", lines, value = TRUE)[1], " *\\| *")[[1]]
  expect_equal(as.numeric(row[3]), q[2], tolerance = 0.05)
  expect_match(row[4], "^\\\\\\[.*, .*\\\\\\]$")
  note <- lines[length(lines)]
  expect_match(note, "Medians with quartiles, or shares of levels")
  expect_match(note, "In parentheses: standard errors (clustered by harbour)", fixed = TRUE)
  effect <- measure_effect(weigh_units(score_units(study)))
  note <- tail(exported(effect, "md", stars = 0.05, se = "under"), 1)
  expect_match(note, "Standard errors: clustered by harbour (30). 7 values of the outcome are missing", fixed = TRUE)
  expect_match(note, "own two-sided test of no effect", fixed = TRUE)
  both <- compare_effects(raw = measure_effect(study), weights = effect)
  expect_match(tail(exported(both, "md"), 1), "Outcome missing and left out: raw 7; weights 7.", fixed = TRUE)
})
