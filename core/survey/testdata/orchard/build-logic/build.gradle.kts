plugins {
    `kotlin-dsl`
}
