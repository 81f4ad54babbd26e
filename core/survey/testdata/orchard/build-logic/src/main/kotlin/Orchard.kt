object Orchard {
    const val BASE = "example.larkfield"

    object Ids {
        const val APP = Orchard.BASE + ".orchard"
    }
}
