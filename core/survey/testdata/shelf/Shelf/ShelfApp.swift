import SwiftUI

@main
struct ShelfApp: App {
    @UIApplicationDelegateAdaptor(Launch.self) var launch

    init() {
        Books.start(key: #"not "quoted" #"#)
        /* Books.start() /* nested */ */
    }

    var body: some Scene {
        WindowGroup { Shelves() }
            .onOpenURL { url in Books.open(url) }
    }
}

final class Launch: NSObject, UIApplicationDelegate {
    func application(_ application: UIApplication, didFinishLaunchingWithOptions options: [UIApplication.LaunchOptionsKey: Any]? = nil) -> Bool {
        Dust.sweep()
        return true
    }

    func application(_ application: UIApplication, didRegisterForRemoteNotificationsWithDeviceToken token: Data) {
    }
}
