for (file in list.files(file.path("..", "testthat"), "^helper-", full.names = TRUE)) source(file, local = TRUE)
