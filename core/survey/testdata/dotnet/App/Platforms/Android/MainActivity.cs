using Android.App;

namespace Compost;

// [Activity(Name = "not.this.one", MainLauncher = true)]
[Activity(Theme = "@style/Maui.SplashTheme", MainLauncher = true, LaunchMode = LaunchMode.SingleTop)]
public class MainActivity : MauiAppCompatActivity
{
}
