#import <RCTAppDelegate.h>

@interface AppDelegate : RCTAppDelegate
@end
