from django.test.runner import DiscoverRunner as Runner
