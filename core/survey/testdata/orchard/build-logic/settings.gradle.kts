rootProject.name = "build-logic"
